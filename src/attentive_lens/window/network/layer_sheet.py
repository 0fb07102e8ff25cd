"""The settings of the chosen plate, made from its layers' own descriptions, with what is wrong and how to mend it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from attentive_lens.desk.network.design import Remedy
from attentive_lens.errors import LensError
from attentive_lens.plan import editing
from attentive_lens.plan.examination import Fault
from attentive_lens.plan.frost import frozen_part
from attentive_lens.plan.layers import BatchNormalisation, LayerSettings
from attentive_lens.plan.nodes import USUALLY, Learning, Node
from attentive_lens.plan.outline import FREE
from attentive_lens.plan.reasons import reason
from attentive_lens.window import look
from attentive_lens.window.bench.plates import Plate
from attentive_lens.window.network.bench_panel import BenchPanel
from attentive_lens.window.network.window_picture import WindowPicture
from attentive_lens.window.parts.basics import button, horizontal, label, retire, vertical, view_button
from attentive_lens.window.parts.form import Form
from attentive_lens.window.session import Session
from attentive_lens.window.words import counted, percent, shape, short, thousands

FIELD, NAME = 104, 160


class LayerSheet(QScrollArea):
    """One layer of the chosen plate at a time, its coatings as further views.

    Signals
    -------
    node_shown
        Another layer is shown, by name; empty for the image.
    left
        Escape was pressed in a field: back to the bench.
    """

    node_shown = pyqtSignal(str)
    left = pyqtSignal()

    def __init__(self, session: Session, panel: BenchPanel) -> None:
        super().__init__()
        self.session, self.panel = session, panel
        self.node = ""
        self._plate = ""
        self.setObjectName("layer sheet")
        self.setAccessibleName("the chosen layer")
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inside = QWidget()
        self.setWidget(inside)
        self._inside = vertical(inside, spacing=8, margins=(16, 12, 16, 12))
        self._views = horizontal(spacing=0)
        self._inside.addLayout(self._views)
        self._alone = self._make_alone()
        self._inside.addWidget(self._alone)
        self.idea = label(role="faint", name="layer idea")
        self.idea.setWordWrap(True)
        self._inside.addWidget(self.idea)
        self._faults = vertical(spacing=4)
        self._inside.addLayout(self._faults)
        free = QGridLayout()
        free.setHorizontalSpacing(10)
        free.setVerticalSpacing(6)
        free.setColumnStretch(0, 1)
        free.setColumnMinimumWidth(2, 46)
        self.name = self._field("layer name", "name", FREE["name"], self._rename, NAME)
        self._free = [label("name", "faint"), self.name]
        free.addWidget(self._free[0], 0, 0)
        free.addWidget(self.name, 0, 1, 1, 2)
        self.learning = Form(USUALLY, tuple(Learning.specs()), self._learn, FIELD)
        self.form: Form | None = None
        self._form_place = QVBoxLayout()
        self._inside.addLayout(self._form_place)
        self._inside.addLayout(free)
        self._inside.addWidget(self.learning)
        self.held = label(role="faint", size=look.SMALL, name="layer held")
        self.held.setWordWrap(True)
        self._inside.addWidget(self.held)
        self.reason = label(role="faint", name="shape reason")
        self.reason.setWordWrap(True)
        self._inside.addWidget(self.reason)
        self.picture = WindowPicture()
        self._inside.addWidget(self.picture)
        panel.layer_asked.connect(self.show_node)
        self._facts = QGridLayout()
        self._facts.setVerticalSpacing(4)
        self._inside.addLayout(self._facts)
        self._inside.addStretch()

    def _make_alone(self) -> QWidget:
        """What is done with the layer shown alone, where its plate has others."""
        whole = QWidget()
        row = horizontal(whole, spacing=4)
        for words, name, tip, call in (
            ("Earlier", "layer earlier", "Swap it with the layer before (Ctrl+Shift+←).", False),
            ("Later", "layer later", "Swap it with the layer behind (Ctrl+Shift+→).", True),
        ):
            row.addWidget(button(words, name, tip, partial(self.panel.swap_layer, call)))
        tip = "Take this layer out; the others of its plate stay (Shift+Delete)."
        row.addWidget(button("Remove", "remove layer", tip, self.panel.remove_layer))
        row.addStretch()
        return whole

    def _field(self, name: str, word: str, tip: str, done: Callable[[], None], wide: int) -> QLineEdit:
        line = QLineEdit()
        line.setObjectName(name)
        line.setAccessibleName(word)
        line.setToolTip(tip)
        line.setFont(look.font())
        line.setFixedWidth(wide)
        line.editingFinished.connect(done)
        return line

    def refresh(self) -> None:
        """Show the plate chosen on the bench."""
        bench = self.panel.bench
        plate = bench.plates[min(bench.current or 0, len(bench.plates) - 1)]
        if plate.name != self._plate or self.node not in plate.nodes:
            self._plate = plate.name
            self.node = plate.nodes[0] if plate.nodes else ""
        self.panel.layer = self.node
        self._show_views(plate)
        self._show()

    def show_node(self, name: str) -> None:
        """Show another layer of the same plate."""
        self.node = name
        self.refresh()
        self.node_shown.emit(name)

    def focus_first(self) -> None:
        """Put the cursor in the first field."""
        target = self.name if self.form is None else self.form
        target.setFocus()
        if isinstance(target, Form):
            target.focus_first()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Escape leads back to the bench."""
        if event is not None and event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)

    def _show_views(self, plate: Plate) -> None:
        _clear(self._views)
        self._alone.setVisible(len(plate.nodes) > 1 and not plate.folded and self.panel.run is None)
        if plate.folded or len(plate.nodes) < 2:
            title = label(plate.name, strong=True, name="layer title")
            self._views.addWidget(title)
        else:
            for name in plate.nodes:
                chosen = view_button(name, f"layer {name}", "This layer's settings.", partial(self.show_node, name))
                chosen.setChecked(name == self.node)
                self._views.addWidget(chosen)
        self._views.addStretch()

    def _shown(self) -> tuple[Node | None, Plate]:
        bench = self.panel.bench
        plate = bench.plates[min(bench.current or 0, len(bench.plates) - 1)]
        return next((node for node in self.panel.nodes if node.name == self.node), None), plate

    def _show(self) -> None:
        node, plate = self._shown()
        single = node is not None and not plate.folded
        self._show_faults(plate)
        for widget in self._free:
            widget.setVisible(single)
        self.learning.setVisible(single and bool(node is not None and self._has_weights(node)))
        layer = node.layer if node is not None and single else None
        self._show_form(layer)
        self.picture.hide()
        self.reason.setText("")
        if node is None:
            self.idea.setText(plate.idea)
            self._show_facts([("shape", shape(plate.shape))])
            self.held.setText("")
            return
        self.idea.setText(f"{plate.idea} F unfolds it." if plate.folded else node.layer.idea)
        if not self.name.hasFocus():
            self.name.setText(node.name)
            self.name.setCursorPosition(0)
        self.learning.show_value(node.learning)
        self.held.setText(self._words_of_freezing(node, plate))
        self.held.setVisible(bool(self.held.text()))
        self._show_consequences(node, plate)
        for field in (self.name, self.learning):
            field.setEnabled(self.panel.run is None)
        if self.form is not None:
            self.form.setEnabled(self.panel.run is None)

    def _show_form(self, layer: LayerSettings | None) -> None:
        names = () if layer is None or (layer.is_output and not layer.draws) else layer.settings_in_use()
        if self.form is not None and (
            layer is None or (type(layer), names) != (type(self.form.value), self.form.names)
        ):
            self._form_place.removeWidget(self.form)
            self.form.settle()
            retire(self.form)
            self.form = None
        if layer is None or not names:
            return
        if self.form is None:
            self.form = Form(layer, names, self._change, FIELD)
            self._form_place.addWidget(self.form)
        else:
            self.form.show_value(layer)

    def _change(self, layer: LayerSettings) -> None:
        name = self.node
        design = self.session.design
        design.edit(editing.change(design.nodes, name, layer), f"a setting of {name}")

    def _rename(self) -> None:
        new, old = self.name.text().strip(), self.node
        if not old or new == old or self.panel.run is not None:
            return
        self.node = new
        if not self.panel.edit(f"renaming {old}", lambda: editing.rename(self.panel.nodes, old, new)):
            self.node = old
            self.name.setText(old)

    def _learn(self, learning: Learning) -> None:
        design = self.session.design
        summary = f"how {self.node} learns"
        design.edit(editing.change_learning(design.nodes, self.node, learning), summary)

    def _has_weights(self, node: Node) -> bool:
        fact = self.panel.examination().facts.get(node.name)
        if fact is None:  # its shape is not known
            return type(node.layer).weight_shapes is not LayerSettings.weight_shapes
        return fact.weights > 0

    def _words_of_freezing(self, node: Node, plate: Plate) -> str:
        if not plate.frozen:
            return ""
        base = self.panel.plan.base
        of_base = base is not None and base.frozen and node.name in self.panel.plan.frozen
        words = f"Frozen: weights of {base.words}." if base is not None and of_base else "Frozen, as initialised."
        part = frozen_part(self.panel.plan)
        if part.node:
            words += f" All up to {part.node} is computed once and kept."
        elif part.why_not:
            words += f" Computed anew each time: {part.why_not}."
        if isinstance(node.layer, BatchNormalisation):
            words += " Its stored mean and variance are used, not the batch's."
        return words

    def _show_consequences(self, node: Node, plate: Plate) -> None:
        facts = self.panel.examination().facts
        fact = facts.get(node.name)
        if plate.folded:
            fact = facts.get(plate.output)
        if fact is None:
            self._show_facts([("shape", "not known")])
            return
        total = max(1, sum(each.multiply_adds for each in facts.values()))
        cost = plate.multiply_adds if plate.folded else fact.multiply_adds
        weights = plate.weights if plate.folded else fact.weights
        rows = [("in", shape(fact.input_shape)), ("out", shape(fact.shape))]
        if plate.folded:
            rows = [("layers", counted(len(plate.nodes), "layer", "layers")), ("out", shape(fact.shape))]
        else:
            self.reason.setText(reason(node.layer, fact))
            self.picture.show_axes(node.layer.axes(fact.input_shape) if len(fact.input_shape) == 3 else None)
        rows += [("weights", thousands(weights))] if weights else []
        rows += [("multiply-adds an image", f"{short(cost)} · {percent(cost / total)}")] if cost else []
        rows.append((f"maps of a batch of {self.panel.plan.training.batch_size}", self._memory(fact.numbers)))
        self._show_facts(rows)

    def _memory(self, per_image: int) -> str:
        training = self.panel.plan.training
        return f"{short(per_image * training.bytes_a_number * training.batch_size)}B"

    def _show_facts(self, rows: list[tuple[str, str]]) -> None:
        _clear(self._facts)
        for row, (name, value) in enumerate(rows):
            self._facts.addWidget(label(name, "faint"), row, 0)
            figure = label(value)
            figure.setAlignment(Qt.AlignmentFlag.AlignRight)
            self._facts.addWidget(figure, row, 1)

    def _show_faults(self, plate: Plate) -> None:
        """What is wrong with the plate, each with its repairs as buttons; what is wrong elsewhere, as ways there."""
        _clear(self._faults)
        if self.panel.run is not None:
            return
        design = self.session.design
        here = [fault for fault in design.faults if not fault.node or fault.node in plate.nodes]
        for fault in here:
            self._show_fault(fault, design.remedies(fault))
        others = [fault for fault in design.faults if fault not in here]
        for fault in others[:3]:
            go = button(
                f"Fault at {fault.node} …", f"go to {fault.node}", str(fault.error), partial(self._go_to, fault.node)
            )
            self._faults.addWidget(go, alignment=Qt.AlignmentFlag.AlignLeft)

    def _show_fault(self, fault: Fault, remedies: tuple[Remedy, ...]) -> None:
        words = label(f"{fault.error.what}: {fault.error.why}.", "bad", name="layer fault")
        words.setWordWrap(True)
        self._faults.addWidget(words)
        for remedy in remedies:
            tip = f"{remedy.words}. It can be undone."
            repair = button(remedy.words, f"repair {remedy.words}", tip, partial(self._repair, remedy))
            self._faults.addWidget(repair, alignment=Qt.AlignmentFlag.AlignLeft)
        if not remedies:
            self._faults.addWidget(label(f"{fault.error.remedy}.", "faint"))

    def _go_to(self, name: str) -> None:
        self.panel.choose_node(name)

    def _repair(self, remedy: Remedy) -> None:
        try:
            self.session.design.repair(remedy)
        except LensError as error:
            self.session.message.emit(str(error), True)


def _clear(layout: QHBoxLayout | QVBoxLayout | QGridLayout) -> None:
    while layout.count():
        item = layout.takeAt(0)
        widget = item.widget() if item is not None else None
        if widget is not None:
            retire(widget)
