"""The augmentation by eye: originals in one row, fresh draws of what training would see under them."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import (
    QCheckBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from attentive_lens.desk.requests.images import Augment, Augmented
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.plan.augmentation import STEPS, AugmentationStep
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, chooser, horizontal, in_lines, label, panel, retire, to_image
from attentive_lens.window.parts.proportions import draw_picture
from attentive_lens.window.parts.range import RangeSlider
from attentive_lens.window.session import Session

COLUMNS, ROWS = 8, 5


class VariantGrid(QWidget):
    """Originals above, variants of each in its column."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("variant grid")
        self.setAccessibleName("originals and their variants")
        self.originals: PixelArray | None = None
        self.variants: PixelArray | None = None

    def show_images(self, originals: PixelArray, variants: PixelArray) -> None:
        """N×H×W×C originals, and rows·N variants, row by row."""
        self.originals, self.variants = originals, variants
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Both, as large as fits."""
        if self.originals is None or self.variants is None:
            return
        t = look.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.setFont(look.font(look.SMALL))
        count = len(self.originals)
        rows = len(self.variants) // count
        side = min((self.width() - 4) / count - 6, (self.height() - 60) / (rows + 1) - 6)
        painter.setPen(t.colour("faint"))
        painter.drawText(QRectF(0, 0, 400, 20), Qt.AlignmentFlag.AlignVCenter, "as they are")
        below = 24 + side + 10
        painter.drawText(QRectF(0, below, 400, 20), Qt.AlignmentFlag.AlignVCenter, "as training would see them")
        for k, picture in enumerate(self.originals):
            draw_picture(painter, QRectF(k * (side + 6), 22, side, side), to_image(picture))
        for k, picture in enumerate(self.variants):
            row, column = divmod(k, count)
            box = QRectF(column * (side + 6), below + 22 + row * (side + 6), side, side)
            draw_picture(painter, box, to_image(picture))


class AugmentationEditor(QWidget):
    """Steps to tick and to set, and what they do to the images, live."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.steps: dict[str, AugmentationStep] = {kind: step() for kind, step in STEPS.items()}
        self.order = list(STEPS)
        self.current = next(iter(STEPS))
        self.draw = 0
        self._asked = self._again = False
        self.sliders: dict[str, RangeSlider] = {}
        layout = horizontal(self, spacing=16)
        frame, inside = panel("Augmentation", "augmentation panel")
        frame.setFixedWidth(340)
        rows = QWidget()
        grid = QGridLayout(rows)
        grid.setContentsMargins(0, 0, 6, 0)
        grid.setVerticalSpacing(2)
        self.ticks: dict[str, QCheckBox] = {}
        self.turns: dict[str, QLabel] = {}
        self.names: dict[str, QPushButton] = {}
        for row, (kind, step) in enumerate(STEPS.items()):
            tick = QCheckBox()
            tick.setObjectName(f"augmentation {kind}")
            tick.setAccessibleName(kind)
            tick.setToolTip(f"{step.idea} Never applied to validation or test images.")
            tick.clicked.connect(lambda _, k=kind: self._tick(k))
            name = button(kind, f"augmentation step {kind}", step.idea, partial(self._choose, kind), True)
            name.setProperty("role", "row")
            grid.addWidget(tick, row, 0)
            grid.addWidget(name, row, 1)
            turn = label(role="faint", size=look.SMALL, name=f"augmentation turn {kind}")
            turn.setToolTip("Its place: steps are applied in this order.")
            grid.addWidget(turn, row, 2)
            self.ticks[kind], self.names[kind], self.turns[kind] = tick, name, turn
        grid.setColumnStretch(1, 1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(rows)
        inside.addWidget(scroll, 1)
        self.idea = label(role="faint", name="augmentation idea")
        self.idea.setWordWrap(True)
        inside.addWidget(self.idea)
        self.caution = label(role="warn", name="augmentation caution")
        self.caution.setWordWrap(True)
        inside.addWidget(self.caution)
        self.settings = QGridLayout()
        inside.addLayout(self.settings)
        turns = QHBoxLayout()
        self.earlier = button("Earlier", "step earlier", "Apply this step one place earlier.", partial(self._move, -1))
        self.later = button("Later", "step later", "Apply this step one place later.", partial(self._move, 1))
        turns.addWidget(self.earlier)
        turns.addWidget(self.later)
        turns.addStretch()
        inside.addLayout(turns)
        layout.addWidget(frame)
        right = QVBoxLayout()
        head = QHBoxLayout()
        head.addWidget(label("What training sees", size=look.LARGE, strong=True))
        head.addStretch()
        head.addWidget(button("Draw again", "draw again", "Another draw of the same augmentation.", self._draw_again))
        right.addLayout(head)
        self.grid = VariantGrid()
        right.addWidget(self.grid, 1)
        layout.addLayout(right, 1)
        session.plan_changed.connect(self.show_plan)
        self.show_plan()
        self._show_step()

    def show_plan(self) -> None:
        """Tick and set what the plan says, unless it stands there already: a handle being moved keeps its focus."""
        if self.augmentation() == self.session.design.plan.augmentation:
            return
        steps = {step.kind: step for step in self.session.design.plan.augmentation}
        self.steps |= steps
        self.order = [*steps, *(kind for kind in self.order if kind not in steps)]
        for kind, tick in self.ticks.items():
            tick.setChecked(kind in steps)
        self._show_turns()
        if self.sliders:
            self._show_step()

    def refresh(self) -> None:
        """Ask for fresh variants, one request at a time: what changed meanwhile is asked for when it is answered."""
        if self._asked:
            self._again = True
            return
        self._asked = True
        plan = self.session.design.plan.with_augmentation(self.augmentation()).write()
        request = Augment(self.session.place, plan, COLUMNS, ROWS, self.draw)
        self.session.ask(request, self._take, self._failed, priority=0)

    def augmentation(self) -> tuple[AugmentationStep, ...]:
        """The ticked steps as they are set now."""
        return tuple(self.steps[kind] for kind in self.order if self.ticks[kind].isChecked())

    def _show_turns(self) -> None:
        ticked = [step.kind for step in self.augmentation()]
        for kind, turn in self.turns.items():
            turn.setText(str(ticked.index(kind) + 1) if kind in ticked else "")
        self.earlier.setEnabled(self._neighbour(-1) is not None)
        self.later.setEnabled(self._neighbour(1) is not None)

    def _neighbour(self, by: int) -> str | None:
        """The ticked step it would change places with; what is mixed is mixed last."""
        ticked = [step.kind for step in self.augmentation()]
        if self.current not in ticked or not 0 <= ticked.index(self.current) + by < len(ticked):
            return None
        other = ticked[ticked.index(self.current) + by]
        return other if STEPS[other].last == STEPS[self.current].last else None

    def _move(self, by: int) -> None:
        other = self._neighbour(by)
        if other is not None:
            mine, theirs = self.order.index(self.current), self.order.index(other)
            self.order[mine], self.order[theirs] = other, self.current
            self._settle()

    def _take(self, augmented: Augmented) -> None:
        self._asked = False
        self.grid.show_images(augmented.originals, augmented.variants)
        if self._again:
            self._again = False
            self.refresh()

    def _failed(self, sentence: str) -> None:
        self._asked = False
        self.session.message.emit(sentence, True)

    def _draw_again(self) -> None:
        self.draw += 1
        self.refresh()

    def _tick(self, kind: str) -> None:
        if self.ticks[kind].isChecked():
            self._find_place(kind)
        self._choose(kind)
        self._settle()

    def _find_place(self, kind: str) -> None:
        """Behind the steps of the augmentation that usually come before it."""
        usual = list(STEPS)
        others = [other for other in self.order if other != kind]
        before = [
            k
            for k, other in enumerate(others)
            if self.ticks[other].isChecked() and usual.index(other) < usual.index(kind)
        ]
        others.insert(max(before, default=-1) + 1, kind)
        self.order = others

    def _settle(self) -> None:
        self._show_turns()
        self.session.design.change(self.session.design.plan.with_augmentation(self.augmentation()))
        self.refresh()

    def _choose(self, kind: str) -> None:
        self.current = kind
        self._show_step()

    def _show_step(self) -> None:
        step = self.steps[self.current]
        for kind, named in self.names.items():
            named.setChecked(kind == self.current)
        self._show_turns()
        self.idea.setText(step.idea)
        acts = step.acts_on(self.session.design.plan.preprocessing)
        caution = step.caution if acts else "Stands aside: the channels of these images are no colours."
        self.caution.setText(caution)
        self.caution.setVisible(bool(caution))
        while self.settings.count():
            item = self.settings.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                retire(widget)
        self.sliders = {}
        row = 0
        for name, spec in step.specs().items():
            value = getattr(step, name)
            if spec.choices:
                self._add_choices(row, step, name)
                row += 1
            if not isinstance(value, float | tuple) or spec.low is None or spec.high is None:
                continue
            self.settings.addWidget(label(f"{spec.label} {spec.unit}".strip(), "faint", look.SMALL), row, 0)
            values = value if isinstance(value, tuple) else (value,)
            slider = RangeSlider(f"{step.title}.{name}", spec.low, spec.high, values)
            slider.setToolTip(in_lines(spec.tip))
            slider.setAccessibleName(spec.label)
            slider.moved.connect(lambda n=name: self._moved(n))
            slider.settled.connect(self._settle)
            self.settings.addWidget(slider, row, 1)
            self.sliders[name] = slider
            row += 1

    def _add_choices(self, row: int, step: AugmentationStep, name: str) -> None:
        spec = step.specs()[name]
        box = chooser(f"{step.title}.{name}", spec.label, spec.meaning, items=tuple(spec.choices))
        box.setCurrentText(getattr(step, name))
        box.textActivated.connect(partial(self._set_choice, name))
        self.settings.addWidget(label(spec.label, "faint", look.SMALL), row, 0)
        self.settings.addWidget(box, row, 1)

    def _set_choice(self, name: str, choice: str) -> None:
        self.steps[self.current] = self.steps[self.current].with_(**{name: choice})
        self._settle()

    def _moved(self, name: str) -> None:
        values = self.sliders[name].values
        self.steps[self.current] = self.steps[self.current].with_(
            **{name: tuple(values) if len(values) > 1 else values[0]}
        )
        self.ticks[self.current].setChecked(True)
        self.refresh()
