"""A square of shares against shares, 0 to 100 % both ways: calibration, precision by recall, found by falsely said."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from attentive_lens.window import look

LEFT, RIGHT, TOP, BOTTOM = 44, 12, 30, 36
MOST_POINTS = 600


@dataclass(frozen=True)
class Line:
    """Points N×2 in 0–1, the token of their colour, whether they are joined, and whether dots stand on them."""

    points: NDArray[np.float64]
    role: str = "petrol"
    joined: bool = True
    dots: bool = False
    dashed: bool = False


class UnitSquare(QWidget):
    """Lines in a square.

    Parameters
    ----------
    title, across, up, name : str
        What is drawn, what lies along the axes, and its name for tests.
    """

    def __init__(self, title: str, across: str, up: str, name: str) -> None:
        super().__init__()
        self.setObjectName(name)
        self.setAccessibleName(title)
        self.title, self.across, self.up = title, across, up
        self.lines: tuple[Line, ...] = ()
        self.note = ""
        self.setMinimumSize(QSize(180, 180))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def show_lines(self, lines: Sequence[Line], note: str = "") -> None:
        """Others; the note stands beside the title."""
        self.lines, self.note = tuple(lines), note
        self.update()

    def area(self) -> QRectF:
        """Where they are drawn."""
        wide, high = self.width() - LEFT - RIGHT, self.height() - TOP - BOTTOM
        side = max(10.0, min(float(wide), float(high)))
        return QRectF(LEFT, TOP, side, side)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Grid, words, lines."""
        t, painter, area = look.theme, QPainter(self), self.area()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(look.font(look.TEXT, strong=True))
        painter.setPen(t.colour("ink"))
        title = QRectF(2, 2, self.width() - 4, 22)
        painter.drawText(title, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, self.title)
        wide = painter.fontMetrics().horizontalAdvance(self.title)
        painter.setFont(look.font(look.SMALL))
        painter.setPen(t.colour("faint"))
        beside = QRectF(wide + 14, 2, self.width() - wide - 16, 22)
        painter.drawText(beside, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, self.note)
        for share in (0.0, 0.5, 1.0):
            x, y = area.left() + share * area.width(), area.bottom() - share * area.height()
            painter.setPen(QPen(t.colour("line"), 1))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            painter.setPen(t.colour("faint"))
            words = f"{share * 100:.0f}\u2009%"
            painter.drawText(QRectF(0, y - 9, LEFT - 6, 18), Qt.AlignmentFlag.AlignRight, words)
            if share:
                below = QRectF(x - 30, area.bottom() + 2, 40, 16)
                painter.drawText(below, Qt.AlignmentFlag.AlignRight, words)
        foot = QRectF(area.left(), area.bottom() + 16, max(area.width(), 200.0), 18)
        painter.drawText(foot, Qt.AlignmentFlag.AlignLeft, f"across: {self.across}; up: {self.up}")
        for line in self.lines:
            self._paint(painter, area, line)

    def _paint(self, painter: QPainter, area: QRectF, line: Line) -> None:
        points = line.points
        if len(points) > MOST_POINTS:
            points = points[np.linspace(0, len(points) - 1, MOST_POINTS).astype(np.int64)]
        places = [
            QPointF(area.left() + x * area.width(), area.bottom() - y * area.height()) for x, y in points.tolist()
        ]
        colour = look.theme.colour(line.role)
        if line.joined and len(places) > 1:
            style = Qt.PenStyle.DashLine if line.dashed else Qt.PenStyle.SolidLine
            painter.setPen(QPen(colour, 1 if line.dashed else 2, style))
            painter.drawPolyline(QPolygonF(places))
        if line.dots:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour)
            for place in places:
                painter.drawEllipse(place, 4.0, 4.0)
            painter.setBrush(Qt.BrushStyle.NoBrush)
