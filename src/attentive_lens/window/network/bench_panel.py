"""The bench with all that is done on it: keys and mouse become edits of the network being designed."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QScrollArea, QWidget

from attentive_lens.errors import LensError
from attentive_lens.plan import editing
from attentive_lens.plan.editing import Nodes
from attentive_lens.plan.examination import Examination, examine
from attentive_lens.plan.nodes import IMAGE
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.text import read_stretch, stretch_text
from attentive_lens.window.bench.overview import Overview
from attentive_lens.window.bench.plates import blocks_of, plates_of
from attentive_lens.window.network.editable_bench import EditableBench
from attentive_lens.window.network.part_search import PartSearch
from attentive_lens.window.parts.basics import vertical
from attentive_lens.window.parts.saving import ask_for_file
from attentive_lens.window.session import Session

TALLEST, PLACE = 250, 70
MANY = 40
"""Layers from which blocks are folded at first."""


class BenchPanel(QWidget):
    """The network being designed, or a run's, which can be looked at and copied from.

    Signals
    -------
    chosen
        Other plates are chosen, or others stand there.
    settings_asked
        The settings of the chosen plate are to be edited.
    layer_asked
        A layer of the chosen plate is to be shown, by name.

    Attributes
    ----------
    layer : str
        The layer of the chosen plate that is shown; empty for the image.
    """

    chosen = pyqtSignal()
    layer_asked = pyqtSignal(str)
    settings_asked = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("bench side")
        self.run: Plan | None = None
        self._classes = 0
        self.layer = ""
        self.folded: set[str] = set()
        self._between = ("", "")
        self._known_blocks: tuple[str, ...] = ()
        inside = vertical(self, spacing=4)
        self.bench = EditableBench("bench", TALLEST, PLACE)
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.area.setWidget(self.bench)
        inside.addWidget(self.area, 1)
        self.overview = Overview(self.bench, self.area)
        inside.addWidget(self.overview)
        self.search = PartSearch(self)
        self.search.picked.connect(self._insert)
        self.bench.chosen.connect(self._show_chosen)
        self.bench.done.connect(self._do)
        self.bench.insert_asked.connect(self._ask_what)
        self.bench.connected.connect(self._connect)
        self.bench.dropped.connect(self._drop)
        self.bench.frost_moved.connect(self.freeze_up_to)
        self.bench.zoomed.connect(self._keep_in_view)
        self.bench.picture_asked.connect(self.save_picture)

    @property
    def plan(self) -> Plan:
        """What is on the bench: the run looked at, or the plan being designed."""
        return self.session.design.plan if self.run is None else self.run

    @property
    def nodes(self) -> Nodes:
        """Likewise, its nodes."""
        return self.session.design.nodes if self.run is None else self.run.network.nodes

    def examination(self) -> Examination:
        """Facts and faults of what is on the bench."""
        if self.run is None:
            return self.session.design.examination
        units = self.run.units(self._classes)
        return examine(self.run.network.nodes, self.run.preprocessing.shape, units, self._classes)

    def look_at(self, run: Plan | None, classes: int = 0) -> None:
        """Put the network of a run with so many classes on the bench, or the one being designed again."""
        self.run, self._classes = run, classes
        self.bench.changeable = run is None
        self.bench.current = min(1, len(self.nodes))
        self.refresh()

    def refresh(self) -> None:
        """Draw the network as it is now."""
        plan, nodes = self.plan, self.nodes
        blocks = blocks_of(nodes)
        if len(nodes) > MANY and not set(blocks) & set(self._known_blocks):
            self.folded = set(blocks)
        self._known_blocks = blocks
        examination = self.examination()
        names = {node.name for node in nodes}
        frozen = plan.frozen if plan.base is None or plan.base.until in names else frozenset[str]()
        frozen |= {node.name for node in nodes if node.frozen}
        faults = examination.faults if self.run is not None else self.session.design.faults
        faulty = {fault.node for fault in faults}
        chosen = self.bench.chosen_nodes()
        plates = plates_of(nodes, examination.facts, plan.preprocessing.shape, frozen, self.folded, faulty)
        self.bench.show_plates(plates)
        self._choose_again(chosen)
        self.overview.update()
        self.chosen.emit()

    def _choose_again(self, nodes: tuple[str, ...]) -> None:
        """What was chosen stays chosen although it stands elsewhere now."""
        if not nodes:
            return
        places = [k for k, plate in enumerate(self.bench.plates) if set(plate.nodes) & set(nodes)]
        if places:
            several = len(places) > 1
            self.bench.current, self.bench.anchor = places[-1], places[0] if several else None
        elif self.bench.current is None:
            self.bench.current = len(self.bench.plates) - 1

    def choose_node(self, name: str) -> None:
        """Choose the plate that a node is on, and bring it into view."""
        place = next((k for k, plate in enumerate(self.bench.plates) if name in plate.nodes), None)
        if place is not None:
            self.bench.choose(place)

    def _show_chosen(self, place: int) -> None:
        at = self.bench.centre(place)
        self.area.ensureVisible(int(at.x()), int(at.y()), int(self.bench.step()), 0)
        self.overview.update()
        self.chosen.emit()

    def _keep_in_view(self, about: float, factor: float) -> None:
        bar = self.area.horizontalScrollBar()
        if bar is not None:
            offset = about - bar.value()
            self.bench.resize(max(self.bench.minimumWidth(), self.area.width()), self.bench.height())
            bar.setValue(int(about * factor - offset))

    def save_picture(self) -> None:
        """Save the whole bench as it is drawn, as SVG or PNG."""
        name = self.plan.name.replace(" ", "-").replace("/", "-")
        ask_for_file(self.bench, name, self.session.message.emit)

    def edit(self, summary: str, edit: Callable[[], Nodes]) -> bool:
        """Make an edit, or say why it is refused; whether it was made."""
        try:
            self.session.design.edit(edit(), summary)
        except LensError as error:
            self.session.message.emit(str(error), True)
            return False
        return True

    def _do(self, word: str) -> None:
        deeds: dict[str, Callable[[], None]] = {
            "remove": self._remove,
            "duplicate": self._duplicate,
            "copy": self._copy,
            "cut": self._cut,
            "paste": self._paste,
            "earlier": lambda: self._shift(-1),
            "later": lambda: self._shift(1),
            "fold": self._fold,
            "fold all": lambda: self.fold_all(not any(plate.folded for plate in self.bench.plates)),
            "freeze": self._freeze,
            "remove layer": self.remove_layer,
            "layer earlier": partial(self.swap_layer, False),
            "layer later": partial(self.swap_layer, True),
            "settings": self.settings_asked.emit,
        }
        if word in deeds:
            deeds[word]()

    def _words(self) -> str:
        """The chosen plates in a few words."""
        places = self.bench.selection()
        plates = [self.bench.plates[place].name for place in places]
        return plates[0] if len(plates) == 1 else f"{len(plates)} plates"

    def _remove(self) -> None:
        names, words = self.bench.chosen_nodes(), self._words() if self.bench.selection() else ""
        if not names:
            self.session.message.emit("The image cannot be removed: it is what the network looks at.", True)
            return
        first = self.bench.selection()[0]
        self.bench.current, self.bench.anchor = max(0, first - 1), None
        self.edit(f"removing {words}", lambda: editing.remove(self.nodes, names))

    def remove_layer(self) -> None:
        """Take the layer that is shown out of its plate; the others stay."""
        name, plate = self.layer, self.bench.plates[self.bench.current or 0]
        if name not in plate.nodes:
            self.session.message.emit("The image cannot be removed: it is what the network looks at.", True)
            return
        left = [node for node in plate.nodes if node != name]
        if self.edit(f"removing {name}", lambda: editing.remove(self.nodes, [name])) and left:
            self.show_layer(left[0])

    def swap_layer(self, later: bool) -> None:
        """Exchange the layer that is shown with the one before it or behind it, on its plate or beyond."""
        name = self.layer
        if self.edit(f"moving {name}", lambda: editing.swap(self.nodes, name, later)):
            self.show_layer(name)

    def show_layer(self, name: str) -> None:
        """Choose the plate a layer is on, and show that layer."""
        self.choose_node(name)
        self.layer_asked.emit(name)

    def _duplicate(self) -> None:
        names = self.bench.chosen_nodes()
        if names:
            copies: list[str] = []

            def duplicate() -> Nodes:
                nodes, new = editing.duplicate(self.nodes, names)
                copies.extend(new)
                return nodes

            self.edit(f"duplicating {self._words()}", duplicate)
            self._choose_again(tuple(copies))
            self.chosen.emit()

    def _copy(self) -> None:
        names = set(self.bench.chosen_nodes())
        clipboard = QGuiApplication.clipboard()
        if names and clipboard is not None:
            clipboard.setText(stretch_text([node for node in self.nodes if node.name in names]))
            self.session.message.emit(f"Copied: {self._words()}. Paste it after a layer of any plan.", False)

    def _cut(self) -> None:
        self._copy()
        self._remove()

    def _paste(self) -> None:
        clipboard = QGuiApplication.clipboard()
        source = self.bench.plates[self.bench.current or 0].output
        copies: list[str] = []

        def paste() -> Nodes:
            stretch = read_stretch(clipboard.text() if clipboard is not None else "")
            nodes, new = editing.paste(self.nodes, source, tuple(n for n in stretch if not n.layer.is_output))
            copies.extend(new)
            return nodes

        if self.edit(f"pasting after {source}", paste):
            self._choose_again(tuple(copies))
            self.chosen.emit()

    def _shift(self, by: int) -> None:
        """Move the chosen plates one plate along their way."""
        places = self.bench.selection()
        if not places:
            return
        plates, names = self.bench.plates, self.bench.chosen_nodes()
        if by < 0:
            before = plates[places[0]].sources[:1]
            beyond = plates[before[0]].sources[:1] if before and before[0] > 0 else ()
            ends = (plates[beyond[0]].output, plates[before[0]].nodes[0]) if beyond else None
        else:
            behind = [k for k, plate in enumerate(plates) if places[-1] in plate.sources and k not in places]
            ends = (plates[behind[0]].output, "") if behind and behind[0] < len(plates) - 1 else None
        if ends is None:
            end = "first" if by < 0 else "last but the output"
            self.session.message.emit(f"{self._words()} cannot move further: it is the {end}.", False)
            return
        source, consumer = ends
        self.edit(f"moving {self._words()}", lambda: editing.move(self.nodes, names, source, consumer))

    def _drop(self, source: str, consumer: str) -> None:
        names = self.bench.chosen_nodes()
        if names:
            self.edit(f"moving {self._words()}", lambda: editing.move(self.nodes, names, source, consumer))

    def _fold(self) -> None:
        plate = self.bench.plates[self.bench.current or 0]
        if plate.block in blocks_of(self.nodes):
            self.folded ^= {plate.block}
            self.refresh()

    def fold_all(self, fold: bool) -> None:
        """Fold every block, or none."""
        self.folded = set(blocks_of(self.nodes)) if fold else set()
        self.refresh()

    def _freeze(self) -> None:
        names = set(self.bench.chosen_nodes())
        held = all(node.frozen for node in self.nodes if node.name in names)
        if names:
            words = f"{'thawing' if held else 'freezing'} {self._words()}"
            self.edit(words, lambda: editing.multiply_rate(self.nodes, names, 1.0 if held else 0.0))

    def freeze_up_to(self, place: int) -> None:
        """Put the frost line behind a plate: with a base it ends there, otherwise all before it keep their weights."""
        design, plate = self.session.design, self.bench.plates[place]
        base = design.plan.base
        try:
            if base is not None and place and base.frozen:
                design.change(design.plan.changed({"base.until": plate.output}), "moving the frost line")
                return
            frozen = editing.feeding(self.nodes, plate.output) if place else set[str]()
            held = {node.name for node in self.nodes if node.frozen}
            nodes = editing.multiply_rate(self.nodes, held - frozen, 1.0)
            design.edit(editing.multiply_rate(nodes, frozen, 0.0), "moving the frost line")
        except LensError as error:
            self.session.message.emit(str(error), True)

    def _connect(self, source: str, consumer: str) -> None:
        meeting: list[str] = []

        def connect() -> Nodes:
            nodes, name = editing.connect(self.nodes, source, consumer)
            meeting.append(name)
            return nodes

        if self.edit(f"leading {source} to {consumer}", connect):
            self.choose_node(meeting[0])

    def _ask_what(self, source: str, consumer: str, at: QPoint) -> None:
        self._between = (source, consumer)
        where = f"after {source}" if not consumer else f"between {source} and {consumer}"
        self.search.open_at(self.bench.mapTo(self, at), f"Add a layer or block {where}")

    def _insert(self, kind: str) -> None:
        source, consumer = self._between
        last: list[str] = []

        part = editing.part_of_kind(kind)

        def insert() -> Nodes:
            place = editing.usual_place(self.nodes, source, part, consumer)
            nodes, name = editing.insert(self.nodes, place[0], part, place[1])
            last.append(name)
            if place[0] != source:
                self.session.message.emit(f"{name} stands before {source}, as is usual; Ctrl+Shift+→ moves it.", False)
            return nodes

        if source != IMAGE and source not in {node.name for node in self.nodes}:
            return
        self.bench.setFocus()
        if self.edit(f"adding {kind}", insert):
            self.show_layer(last[0])
