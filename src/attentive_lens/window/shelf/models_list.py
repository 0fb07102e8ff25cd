"""The models at the left of the Shelf: each with a small drawing of its bench, its name and how it did."""

from __future__ import annotations

import math

from PyQt6.QtCore import QEvent, QRect, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetricsF, QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from attentive_lens.desk.requests.shelf import ShelfModel
from attentive_lens.window import look
from attentive_lens.window.parts.pointing import points, rows
from attentive_lens.window.words import counted, percent, shortened

ROW, EDGE, LEFT = 74, 3, 10
"""Pixels of a row, of the mark of the one in view, and before its words."""
BENCH = QSize(150, 26)
"""Of the small drawing."""


class ModelsList(QWidget):
    """A row a model; a click or the arrow keys put one in view.

    Signals
    -------
    chosen
        Name of a model.
    """

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        points(self, rows(lambda: len(self.models), ROW))
        self.setObjectName("models list")
        self.setAccessibleName("models on the Shelf")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.models: tuple[ShelfModel, ...] = ()
        self.current = ""

    def show_models(self, models: tuple[ShelfModel, ...], current: str) -> None:
        """As they stand now."""
        self.models, self.current = models, current
        self.setFixedHeight(max(1, len(models)) * ROW)
        self.setAccessibleDescription("; ".join(f"{model.name}, {standing(model)}" for model in models))
        self.update()

    def row(self, name: str) -> QRect:
        """Where a model is."""
        place = next((k for k, model in enumerate(self.models) if model.name == name), 0)
        return QRect(0, place * ROW, self.width(), ROW)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Name, bench, standing."""
        t, painter = look.theme, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        names = [model.name for model in self.models]
        for model in self.models:
            box, chosen = QRectF(self.row(model.name)), model.name == self.current
            if chosen:
                painter.fillRect(box, t.colour("sheet"))
                painter.fillRect(QRectF(0, box.top(), EDGE, ROW), t.colour("petrol"))
            painter.setFont(look.font(look.TEXT, chosen))
            painter.setPen(t.colour("ink"))
            side, room = Qt.AlignmentFlag.AlignVCenter, box.width() - LEFT - 4
            (words,) = shortened([model.name], room, QFontMetricsF(painter.font()).horizontalAdvance, names)
            painter.drawText(QRectF(LEFT, box.top() + 5, room, 18), side, words)
            draw_small_bench(painter, QRectF(LEFT, box.top() + 24, BENCH.width(), BENCH.height()), model)
            painter.setFont(look.font(look.SMALL))
            painter.setPen(t.colour("vermilion" if model.problem else "faint"))
            elided = painter.fontMetrics().elidedText(standing(model), Qt.TextElideMode.ElideRight, int(room))
            painter.drawText(QRectF(LEFT, box.top() + 51, room, 18), side, elided)
        if self.hasFocus() and self.current:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(t.colour("petrol"))
            painter.drawRect(QRectF(self.row(self.current)).adjusted(0.5, 0.5, -0.5, -0.5))

    def _choose(self, place: int) -> None:
        if 0 <= place < len(self.models):
            self.chosen.emit(self.models[place].name)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Put it in view."""
        if event is not None:
            self._choose(int(event.position().y()) // ROW)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Up and down."""
        steps = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}
        key = Qt.Key(event.key()) if event is not None else Qt.Key.Key_unknown
        at = next((k for k, model in enumerate(self.models) if model.name == self.current), None)
        if key in steps and at is not None:
            self._choose(min(max(at + steps[key], 0), len(self.models) - 1))
        else:
            super().keyPressEvent(event)

    def event(self, event: QEvent | None) -> bool:
        """The whole name, when the mouse rests."""
        if isinstance(event, QHelpEvent):
            place = event.pos().y() // ROW
            model = self.models[place] if 0 <= place < len(self.models) else None
            words = "\n".join(filter(None, (model.name, model.origin, model.score))) if model is not None else ""
            QToolTip.showText(event.globalPos(), words, self)
            return True
        return super().event(event)


def standing(model: ShelfModel) -> str:
    """How it did, or what it tells apart, in a few words."""
    if model.problem:
        return "cannot be read"
    classes = counted(len(model.classes), "class", "classes")
    return f"{percent(model.accuracy)} · {classes}" if model.accuracy is not None else classes


def draw_small_bench(painter: QPainter, box: QRectF, model: ShelfModel) -> None:
    """Its plates on a rail: as tall as the root of the side, as thick as the logarithm of the channels."""
    t = look.theme
    painter.setPen(t.colour("line"))
    painter.fillRect(QRectF(box.left(), box.center().y() - 0.5, box.width(), 1), t.colour("line"))
    if not model.plates:
        return
    largest = max(side for side, _ in model.plates)
    step = box.width() / len(model.plates)
    for k, (side, channels) in enumerate(model.plates):
        tall = max(3.0, box.height() * math.sqrt(side / largest))
        thick = min(step * 0.8, 1.5 + math.log2(channels + 1) * 0.7)
        x = box.left() + step * (k + 0.5)
        plate = QRectF(x - thick / 2, box.center().y() - tall / 2, thick, tall)
        painter.fillRect(plate, t.colour("petrol" if k else "ochre_fill", 150))
