"""A square of shares against shares, 0 to 100 % both ways: calibration, precision by recall, found by falsely said."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from attentive_lens.window import look

LEFT, RIGHT, TOP, BOTTOM = 44, 12, 30, 36
MOST_POINTS = 600
NEAR = 24.0
"""Pixels from the mouse within which a point is told of."""


@dataclass(frozen=True)
class Line:
    """Points N×2 in 0–1, the token of their colour, whether they are joined, and whether dots stand on them.

    ``at`` tells what each point is besides, as its threshold: a number each, and what it is.
    """

    points: NDArray[np.float64]
    role: str = "petrol"
    joined: bool = True
    dots: bool = False
    dashed: bool = False
    at: tuple[str, NDArray[np.float64]] | None = None


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
        self.over: tuple[int, int] | None = None
        """The line and its point under the mouse."""
        self.setMouseTracking(True)
        self.setMinimumSize(QSize(180, 180))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def show_lines(self, lines: Sequence[Line], note: str = "") -> None:
        """Others; the note stands beside the title."""
        self.lines, self.note, self.over = tuple(lines), note, None
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
        words = self.told() or self.note
        painter.drawText(beside, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, words)
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
        if self.over is not None:
            x, y = self.lines[self.over[0]].points[self.over[1]]
            painter.setPen(QPen(t.colour("ink"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(QPointF(area.left() + x * area.width(), area.bottom() - y * area.height()), 5.0, 5.0)

    def told(self) -> str:
        """The values of the point under the mouse; empty for none."""
        if self.over is None:
            return ""
        line, k = self.lines[self.over[0]], self.over[1]
        x, y = line.points[k]
        words = f"{self.across} {x * 100:.1f}\u2009%, {self.up} {y * 100:.1f}\u2009%"
        return f"{words} at {line.at[0]} {line.at[1][k]:.3f}" if line.at is not None else words

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Take the nearest point that is near."""
        if event is None:
            return
        area, best, over = self.area(), NEAR, None
        for number, line in enumerate(self.lines):
            if line.dashed or not len(line.points):
                continue
            across = area.left() + line.points[:, 0] * area.width() - event.position().x()
            down = area.bottom() - line.points[:, 1] * area.height() - event.position().y()
            away = np.hypot(across, down)
            if away.min() < best:
                best, over = float(away.min()), (number, int(away.argmin()))
        if over != self.over:
            self.over = over
            self.update()

    def leaveEvent(self, event: QEvent | None) -> None:
        """No point is under the mouse."""
        self.over = None
        self.update()

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
