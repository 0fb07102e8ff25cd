"""Try a change: something is done to the image by hand, and the answers follow."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QSlider, QVBoxLayout, QWidget

from attentive_lens.core.records import PlainTable
from attentive_lens.desk.requests.explaining import Explanation
from attentive_lens.desk.requests.inspecting import Tried, TryChanges
from attentive_lens.window import look
from attentive_lens.window.parts.bars import Bar, Bars
from attentive_lens.window.parts.basics import button, label, to_image
from attentive_lens.window.parts.picture import PictureBox
from attentive_lens.window.session import Session

STEPS = 100
SIDE = 224


@dataclass(frozen=True)
class Knob:
    """A setting of a change: its name, words, least and greatest value, and where it begins."""

    name: str
    words: str
    low: float
    high: float
    start: float


@dataclass(frozen=True)
class Way:
    """A change: its name, words, knobs, and whether it has a place that is dragged on the picture."""

    name: str
    words: str
    knobs: tuple[Knob, ...]
    placed: bool = False


_SIZE = Knob("side", "side", 0.05, 1.0, 0.3)
WAYS = (
    Way("cover", "cover with the mean colour", (_SIZE,), placed=True),
    Way("blur", "blur a square", (_SIZE, Knob("width", "how much", 0.01, 0.2, 0.06)), placed=True),
    Way(
        "brush",
        "paint a disc",
        (
            Knob("radius", "radius", 0.02, 0.5, 0.12),
            Knob("red", "red", 0, 1, 0.8),
            Knob("green", "green", 0, 1, 0.8),
            Knob("blue", "blue", 0, 1, 0.8),
        ),
        placed=True,
    ),
    Way("translate", "move", (Knob("down", "down", -0.5, 0.5, 0.0), Knob("across", "right", -0.5, 0.5, 0.1))),
    Way("rotate", "rotate", (Knob("degrees", "degrees", -180, 180, 15),)),
    Way("scale", "scale", (Knob("factor", "times", 0.3, 3.0, 1.2),)),
    Way("brighten", "brighten", (Knob("factor", "times", 0.2, 2.5, 1.2),)),
    Way("denoise", "median of a window", (Knob("window", "pixels", 1, 9, 3),)),
)
"""What can be tried, in the order of the list."""


class PlaceBox(PictureBox):
    """A picture on which a place is dragged.

    Signals
    -------
    moved
        Column and row of the place, parts of the side.
    """

    moved = pyqtSignal(float, float)

    def __init__(self, name: str, side: int) -> None:
        super().__init__(name, side)
        self.mark: QRectF | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """To where the mouse is."""
        self.mouseMoveEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """With the mouse."""
        if event is not None:
            at = QPointF(event.position().x() / self.width(), event.position().y() / self.height())
            self.moved.emit(min(max(at.x(), 0.0), 1.0), min(max(at.y(), 0.0), 1.0))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """The picture, and the place as a thin frame."""
        super().paintEvent(event)
        if self.mark is not None and self.picture is not None:
            painter = QPainter(self)
            painter.setPen(QPen(look.theme.colour("ink"), 1, Qt.PenStyle.DashLine))
            side = self.width()
            box = self.mark
            painter.drawRect(QRectF(box.x() * side, box.y() * side, box.width() * side, box.height() * side))


class ChangePanel(QWidget):
    """A change with its knobs, the changed picture, and the answers before and after.

    Signals
    -------
    pinned
        "change", a sentence, and the change.
    """

    pinned = pyqtSignal(str, str, dict)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.explanation: Explanation | None = None
        self.tried: Tried | None = None
        self.at = (0.5, 0.5)
        self._run = 0
        self._busy, self._again = False, False
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(16)
        self.picture = PlaceBox("changed picture", SIDE)
        self.picture.setToolTip("Drag to move the place of the change.")
        self.picture.moved.connect(self._move)
        outer.addWidget(self.picture, 0, Qt.AlignmentFlag.AlignTop)
        middle = QVBoxLayout()
        middle.setSpacing(6)
        self.ways = QComboBox()
        self.ways.setObjectName("change")
        self.ways.setAccessibleName("the change")
        self.ways.setFont(look.font())
        for way in WAYS:
            self.ways.addItem(way.words, way.name)
        self.ways.currentIndexChanged.connect(lambda _: self._take_way())
        middle.addWidget(self.ways)
        grid = QGridLayout()
        grid.setSpacing(6)
        self.knobs = []
        for place in range(4):
            words, slider, figure = label(role="faint"), QSlider(Qt.Orientation.Horizontal), label()
            slider.setObjectName(f"knob {place}")
            slider.setRange(0, STEPS)
            slider.valueChanged.connect(lambda _: self._turn())
            figure.setFixedWidth(48)
            for column, widget in enumerate((words, slider, figure)):
                grid.addWidget(widget, place, column)
            self.knobs.append((words, slider, figure))
        middle.addLayout(grid)
        row = QHBoxLayout()
        tip = "The smallest square whose covering changes the answer, every smaller one tried."
        self.smallest = button("Smallest cover", "smallest cover", tip, self._ask_smallest)
        row.addWidget(self.smallest)
        self.pin = button("Pin", "pin change", "Keep this trial with the image's case.", self._pin)
        row.addWidget(self.pin)
        row.addStretch()
        middle.addLayout(row)
        self.says = label(role="faint", name="change says")
        self.says.setWordWrap(True)
        middle.addWidget(self.says)
        middle.addStretch()
        outer.addLayout(middle, 3)
        right = QVBoxLayout()
        right.addWidget(label("Answers, before the change in brackets", "faint", look.SMALL))
        self.bars = Bars("change bars", 84, 104)
        right.addWidget(self.bars)
        right.addStretch()
        outer.addLayout(right, 4)
        self._take_way()

    @property
    def way(self) -> Way:
        """The change in hand."""
        return WAYS[self.ways.currentIndex()]

    def change(self) -> PlainTable:
        """With its settings, as it is asked for."""
        values: PlainTable = {"change": self.way.name}
        if self.way.placed:
            values |= {"row": round(self.at[1], 3), "column": round(self.at[0], 3)}
        for knob, (_, slider, _) in zip(self.way.knobs, self.knobs, strict=False):
            values[knob.name] = self._value(knob, slider.value())
        return values

    @staticmethod
    def _value(knob: Knob, step: int) -> float:
        value = knob.low + (knob.high - knob.low) * step / STEPS
        return float(round(value)) if knob.name in ("window", "degrees") else round(value, 3)

    def show_explanation(self, run: int, explanation: Explanation) -> None:
        """Another image; the change in hand is tried on it when it is seen."""
        same = self.explanation is not None and self.explanation.image == explanation.image and self._run == run
        self.explanation, self._run = explanation, run
        if not same:
            self.tried = None
            self.picture.show_image(to_image(explanation.pixels))
        if self.isVisible():
            self._try()

    def _take_way(self) -> None:
        for place, (words, slider, figure) in enumerate(self.knobs):
            there = place < len(self.way.knobs)
            for widget in (words, slider, figure):
                widget.setVisible(there)
            if there:
                knob = self.way.knobs[place]
                words.setText(knob.words)
                slider.setAccessibleName(knob.words)
                slider.blockSignals(True)
                slider.setValue(round((knob.start - knob.low) / (knob.high - knob.low) * STEPS))
                slider.blockSignals(False)
        self._turn()

    def _move(self, column: float, row: float) -> None:
        self.at = (column, row)
        if self.way.placed:
            self._turn()

    def _turn(self) -> None:
        for knob, (_, slider, figure) in zip(self.way.knobs, self.knobs, strict=False):
            figure.setText(f"{self._value(knob, slider.value()):g}")
        self.picture.mark = None
        if self.way.placed:
            size = float(str(self.change().get("side", 0))) or 2 * float(str(self.change().get("radius", 0)))
            self.picture.mark = QRectF(self.at[0] - size / 2, self.at[1] - size / 2, size, size)
        self.picture.update()
        self._try()

    def _try(self) -> None:
        """One question at a time: while the mouse moves, only the latest place is asked next."""
        if self.explanation is None or self.explanation.image is None or not self.isVisible():
            if self.explanation is not None and self.explanation.image is None:
                self.says.setText("Add the image to the workspace first: then changes can be tried on it.")
            return
        if self._busy:
            self._again = True
            return
        self._busy = True
        request = TryChanges(self.session.place, self._run, self.explanation.image, (self.change(),), smallest=False)
        self.session.ask(request, self._take, self._fail, priority=0)

    def _take(self, tried: Tried) -> None:
        self._busy = False
        if self.explanation is not None and tried.image == self.explanation.image:
            self.tried = tried
            self.picture.show_image(to_image(tried.pixels[0]))
            self._show_answers(tried)
        if self._again:
            self._again = False
            self._try()

    def _fail(self, sentence: str) -> None:
        self._busy = False
        self.says.setText(sentence)

    def _show_answers(self, tried: Tried) -> None:
        before, after = tried.before.probabilities, tried.after[0].probabilities
        order = sorted(after, key=lambda name: -after[name])[:8]
        true = self.explanation.true if self.explanation is not None else None
        roles = {tried.before.said: "vermilion"} | ({true: "petrol"} if true is not None else {})
        self.bars.show_bars(
            tuple(
                Bar(name, max(0.0, after[name]), f"{after[name]:.2f}  ({before[name]:.2f})", roles.get(name, "faint"))
                for name in order
            )
        )
        self.says.setText(in_words(tried))

    def _ask_smallest(self) -> None:
        if self.explanation is not None and self.explanation.image is not None:
            self.says.setText("Trying every square …")
            request = TryChanges(self.session.place, self._run, self.explanation.image, (), smallest=True)
            take = partial(self._take_smallest, self.explanation.image)
            self.session.ask(request, take, self._fail, priority=4, scope="smallest cover")

    def _take_smallest(self, image: int, tried: Tried) -> None:
        cover = tried.smallest_cover
        if self.explanation is None or self.explanation.image != image or cover is None:
            return
        if cover.row is None or cover.column is None or cover.side is None:
            self.says.setText("No square that was tried changes the answer.")
            return
        self.ways.setCurrentIndex(0)
        self.at = (cover.column, cover.row)
        knob = WAYS[0].knobs[0]
        self.knobs[0][1].setValue(round((cover.side - knob.low) / (knob.high - knob.low) * STEPS))
        self._turn()

    def _pin(self) -> None:
        if self.tried is not None and self.tried.after:
            self.pinned.emit("change", in_words(self.tried), dict(self.tried.after[0].change))


def in_words(tried: Tried) -> str:
    """What a change did to the answer."""
    before, after = tried.before, tried.after[0]
    change = ", ".join(f"{key} {value}" for key, value in after.change.items() if key != "change")
    what = f"{after.change.get('change', '')} ({change})"
    if before.said == after.said:
        there = after.probabilities[after.said]
        return f"{what}: still {after.said}, {there:.2f} after {before.probabilities[before.said]:.2f}"
    return f"{what}: {after.said} ({after.probabilities[after.said]:.2f}) in place of {before.said}"
