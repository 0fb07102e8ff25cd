"""A small picture of how a layer's window goes over its input, and what of it comes out."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from attentive_lens.plan.layers.base import Axis
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
        self._axes: tuple[Axis, Axis] | None = None

    def show_axes(self, axes: tuple[Axis, Axis] | None) -> None:
        """How windows go over rows and columns; hidden where there is no window to speak of."""
        self._axes = axes
        self.setVisible(axes is not None and any(axis.extent > 1 or axis.stride > 1 for axis in axes))
        self.update()

    def windows(self) -> tuple[tuple[int, int, int, int], ...]:
        """First column, first row, columns and rows of the two windows that are drawn, counted from the corner drawn.

        The second one is the next to the right; what lies beyond the corner is cut off.
        """
        if self._axes is None:
            return ()
        rows, columns = self._axes
        result = []
        for k in (0, 1):
            left = k * columns.stride - (columns.before - _pad(columns))
            top = -(rows.before - _pad(rows))
            right, bottom = min(left + columns.extent, _cells(columns)), min(top + rows.extent, _cells(rows))
            left, top = max(0, left), max(0, top)
            if k < columns.count and left < right and top < bottom:
                result.append((left, top, right - left, bottom - top))
        return tuple(result)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Input left, outputs right."""
        if self._axes is None:
            return
        t, (rows, columns) = look.theme, self._axes
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        cell = (SIDE - 2) / MOST
        for row in range(_cells(rows)):
            for column in range(_cells(columns)):
                padding = row < _pad(rows) or column < _pad(columns)
                painter.setPen(QPen(t.colour("line"), 1, Qt.PenStyle.DotLine if padding else Qt.PenStyle.SolidLine))
                painter.setBrush(Qt.BrushStyle.NoBrush if padding else t.colour("well"))
                painter.drawRect(QRectF(1 + column * cell, 1 + row * cell, cell, cell))
        for (left, top, wide, high), colour in zip(self.windows(), ("petrol", "ochre"), strict=False):
            painter.setPen(QPen(t.colour(colour), 1.6))
            painter.setBrush(t.colour(colour, 36))
            painter.drawRect(QRectF(1 + left * cell, 1 + top * cell, wide * cell, high * cell))
        across, down = (_outputs(axis) for axis in (columns, rows))
        beside, size = SIDE + 22.0, min(cell, 46 / max(across, down))
        painter.setPen(QPen(t.colour("faint"), 1.2))
        middle = SIDE / 2
        painter.drawLine(QPointF(SIDE + 4, middle), QPointF(SIDE + 16, middle))
        painter.drawLine(QPointF(SIDE + 12, middle - 3), QPointF(SIDE + 16, middle))
        painter.drawLine(QPointF(SIDE + 12, middle + 3), QPointF(SIDE + 16, middle))
        over = middle - down * size / 2
        for row in range(down):
            for column in range(across):
                first = {(0, 0): "petrol", (0, 1): "ochre"}.get((row, column))
                painter.setPen(QPen(t.colour(first or "line"), 1.4 if first else 1))
                painter.setBrush(t.colour(first, 60) if first else t.colour("well"))
                painter.drawRect(QRectF(beside + column * size, over + row * size, size, size))


def _pad(axis: Axis) -> int:
    """Padded pixels that are drawn before the corner."""
    return min(axis.before, 3)


def _cells(axis: Axis) -> int:
    """Pixels that are drawn, padding included."""
    return min(MOST, _pad(axis) + axis.side)


def _outputs(axis: Axis) -> int:
    """Outputs whose windows begin and end in what is drawn."""
    return max(1, min(axis.count, (_cells(axis) - min(axis.extent, _cells(axis))) // axis.stride + 1))
