"""The models at the left of the Shelf: each with a small drawing of its bench, its name and how it did."""

from __future__ import annotations

import math

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetricsF, QPainter, QPaintEvent

from attentive_lens.desk.requests.shelf import ShelfModel
from attentive_lens.window import look
from attentive_lens.window.parts.row_list import RowList
from attentive_lens.window.words import counted, percent, shortened

ROW, EDGE, LEFT = 74, 3, 10
"""Pixels of a row, of the mark of the one in view, and before its words."""
BENCH = QSize(150, 26)
"""Of the small drawing."""


class ModelsList(RowList):
    """A row a model; a click or the arrow keys put one in view.

    Signals
    -------
    chosen
        Name of a model.
    """

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        self.models: tuple[ShelfModel, ...] = ()
        self.current = ""
        super().__init__("models list", "models on the Shelf", ROW)

    def show_models(self, models: tuple[ShelfModel, ...], current: str) -> None:
        """As they stand now."""
        self.models, self.current = models, current
        self.setAccessibleDescription("; ".join(f"{model.name}, {standing(model)}" for model in models))
        self.fit()

    def count(self) -> int:
        """Models."""
        return len(self.models)

    def place_in_view(self) -> int | None:
        """Of the model in view."""
        return next((k for k, model in enumerate(self.models) if model.name == self.current), None)

    def choose(self, place: int) -> None:
        """Say which model is to be in view."""
        self.chosen.emit(self.models[place].name)

    def tip(self, place: int) -> str:
        """Its whole name, where it is from, how it did."""
        model = self.models[place]
        return "\n".join(filter(None, (model.name, model.origin, model.score)))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Name, bench, standing."""
        t, painter = look.theme, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        names = [model.name for model in self.models]
        for place, model in enumerate(self.models):
            box, chosen = QRectF(self.row(place)), model.name == self.current
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
        self.paint_focus(painter)


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
