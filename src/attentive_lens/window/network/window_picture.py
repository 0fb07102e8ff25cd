"""A small picture of how a layer's window goes over its input, and what of it comes out."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from attentive_lens.plan.layers.base import Reach
from attentive_lens.window import look

SIDE, WIDE = 92, 168
MOST = 9
"""Pixels of a corner that are drawn, with the padding."""


class WindowPicture(QWidget):
    """The upper left corner of a layer's input, the first windows on it, and the outputs they give.

    Padding stands outside the corner as empty dotted pixels; pixels that no window begins or ends in are hatched.
    """

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("window picture")
        self.setAccessibleName("how the window goes over the input")
        self.setToolTip("The corner of the input with the first two windows, dotted zeros round it, and the outputs.")
        self.setFixedSize(WIDE, SIDE)
        self._reach: Reach | None = None
        self._sides = (0, 0)

    def show_reach(self, reach: Reach | None, before: int, after: int) -> None:
        """A window on an input of ``before`` rows that gives ``after``; hidden where there is no window."""
        self._reach, self._sides = reach, (before, after)
        self.setVisible(reach is not None and (reach.kernel > 1 or reach.stride > 1))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Input left, outputs right."""
        if self._reach is None:
            return
        t, reach = look.theme, self._reach
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        pad = min(reach.before, 3)
        cells = min(MOST, pad + self._sides[0])
        cell = (SIDE - 2) / MOST
        for row in range(cells):
            for column in range(cells):
                padding = row < pad or column < pad
                painter.setPen(QPen(t.colour("line"), 1, Qt.PenStyle.DotLine if padding else Qt.PenStyle.SolidLine))
                painter.setBrush(Qt.BrushStyle.NoBrush if padding else t.colour("well"))
                painter.drawRect(QRectF(1 + column * cell, 1 + row * cell, cell, cell))
        painter.setBrush(t.colour("petrol", 40))
        shift = reach.before - pad
        for k, colour in ((0, "petrol"), (1, "ochre")):
            begin = k * reach.stride - shift
            extent = min(reach.kernel, cells - begin)
            if 0 <= begin < cells and extent > 0:
                painter.setPen(QPen(t.colour(colour), 1.6))
                painter.setBrush(t.colour(colour, 36))
                painter.drawRect(QRectF(1 + begin * cell, 1, extent * cell, min(reach.kernel, cells) * cell))
        outputs = max(1, min(self._sides[1], (cells - min(reach.kernel, cells)) // reach.stride + 1))
        left, size = SIDE + 22, min(cell, 46 / outputs)
        painter.setPen(QPen(t.colour("faint"), 1.2))
        middle = SIDE / 2
        painter.drawLine(QPointF(SIDE + 4, middle), QPointF(SIDE + 16, middle))
        painter.drawLine(QPointF(SIDE + 12, middle - 3), QPointF(SIDE + 16, middle))
        painter.drawLine(QPointF(SIDE + 12, middle + 3), QPointF(SIDE + 16, middle))
        top = middle - outputs * size / 2
        for row in range(outputs):
            for column in range(outputs):
                first = {(0, 0): "petrol", (0, 1): "ochre"}.get((row, column))
                painter.setPen(QPen(t.colour(first or "line"), 1.4 if first else 1))
                painter.setBrush(t.colour(first, 60) if first else t.colour("well"))
                painter.drawRect(QRectF(left + column * size, top + row * size, size, size))
