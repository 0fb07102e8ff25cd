"""A curve over epochs: few lines, an axis with round numbers, a value wherever the mouse is.

Of curves longer than a point a pixel only the first, least, greatest and last of every stretch are drawn, so that a
run of any length costs the same to paint.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from attentive_lens.window import look

LEFT, RIGHT, TOP, BOTTOM = 48, 92, 34, 26
LINES = {"dashed": Qt.PenStyle.DashLine, "dotted": Qt.PenStyle.DotLine}
"""Styles of lines that are broken."""


@dataclass(frozen=True)
class Curve:
    """A line: what it is, its points, its colour's role, and how it is drawn.

    Attributes
    ----------
    name : str
        Written at its end.
    points : tuple of (x, y)
        In order of x.
    role : str
        Token of its colour.
    style : str
        "line", "dashed", "dotted" or "faint".
    """

    name: str
    points: tuple[tuple[float, float], ...]
    role: str
    style: str = "line"


class Chart(QWidget):
    """Curves over a shared axis.

    Parameters
    ----------
    title, unit : str
        What is drawn; "%" shows parts of 1 as hundredths.
    name : str
        For tests.

    Signals
    -------
    pointed
        The epoch under the mouse; below zero where there is none.
    """

    pointed = pyqtSignal(float)

    def __init__(self, title: str, unit: str, name: str) -> None:
        super().__init__()
        self.setObjectName(name)
        self.setAccessibleName(title)
        self.title, self.unit = title, unit
        self.curves: tuple[Curve, ...] = ()
        self.span = 1.0
        self.marked: float | None = None
        self.log = False
        self.read_at: float | None = None
        self.setMouseTracking(True)
        self.setMinimumSize(QSize(240, 140))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def show_curves(self, curves: tuple[Curve, ...], span: float, marked: float | None = None) -> None:
        """Draw other curves over epochs 0 to ``span``; ``marked`` is the best epoch."""
        self.curves, self.span, self.marked = curves, max(span, 1.0), marked
        self.update()

    def show_log(self, log: bool) -> None:
        """Draw values by their logarithm, or as they are."""
        self.log = log
        self.update()

    def _limits(self) -> tuple[float, float]:
        """The least and greatest value that is drawn."""
        if self.unit == "%":
            return 0.0, 1.0
        values = sorted(y for curve in self.curves for _, y in curve.points if math.isfinite(y))
        if self.log:
            values = [value for value in values if value > 0] or [0.1, 1.0]
            return values[0] / 1.1, max(values[-1], values[0] * 1.5) * 1.1
        if not values:
            return 0.0, 1.0
        top = max(values[min(len(values) - 1, int(len(values) * 0.98))], values[-1] if len(values) < 20 else 0.0)
        return 0.0, max(top * 1.06, 1e-12)

    def _height(self, value: float, low: float, high: float) -> float:
        """Where a value stands between the limits, from 0 to 1."""
        if self.log:
            return math.log(max(value, low) / low) / math.log(high / low)
        return (value - low) / (high - low)

    def _area(self) -> QRectF:
        return QRectF(LEFT, TOP, self.width() - LEFT - RIGHT, self.height() - TOP - BOTTOM)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Title, grid, curves, names at their ends, and the values under the mouse."""
        t = look.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = self._area()
        low, high = self._limits()
        painter.setFont(look.font(look.TEXT, True))
        painter.setPen(t.colour("ink"))
        painter.drawText(QRectF(0, 4, self.width() - 8, 20), Qt.AlignmentFlag.AlignLeft, self.title)
        painter.setFont(look.font(look.SMALL))
        for value in log_steps(low, high) if self.log else round_steps(low, high, 4):
            y = area.bottom() - self._height(value, low, high) * area.height()
            painter.setPen(QPen(t.colour("line"), 1))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            painter.setPen(t.colour("faint"))
            at = QRectF(0, y - 9, LEFT - 8, 18)
            painter.drawText(at, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, self._figure(value))
        for value in round_steps(0, self.span, 8):
            if value != int(value):
                continue
            x = area.left() + value / self.span * area.width()
            painter.setPen(t.colour("faint"))
            at = QRectF(x - 30, area.bottom() + 4, 60, 18)
            painter.drawText(at, Qt.AlignmentFlag.AlignCenter, f"{value:g}")
        if self.marked is not None:
            x = area.left() + self.marked / self.span * area.width()
            painter.setPen(QPen(t.colour("petrol"), 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
            at = QRectF(x - 60, area.top() - 17, 120, 16)
            painter.setPen(t.colour("petrol"))
            painter.drawText(at, Qt.AlignmentFlag.AlignCenter, "best")
        self._paint_curves(painter, area, low, high)
        if self.read_at is not None:
            self._paint_cursor(painter, area, round(self.read_at))

    def _paint_curves(self, painter: QPainter, area: QRectF, low: float, high: float) -> None:
        t = look.theme
        ends: list[tuple[float, Curve]] = []
        painter.save()
        painter.setClipRect(area.adjusted(-2, -2, 2, 2))
        for curve in self.curves:
            if not curve.points:
                continue
            points = reduced(curve.points, max(50, int(area.width())))
            line = QPolygonF(
                [
                    QPointF(
                        area.left() + x / self.span * area.width(),
                        area.bottom() - self._height(min(y, high * 2), low, high) * area.height(),
                    )
                    for x, y in points
                    if math.isfinite(y)
                ]
            )
            colour = t.colour(curve.role, 90 if curve.style == "faint" else 255)
            pen = QPen(colour, 1 if curve.style == "faint" else 2)
            if curve.style in LINES:
                pen.setStyle(LINES[curve.style])
            painter.setPen(pen)
            painter.drawPolyline(line)
            if line.count() == 1:
                painter.setBrush(colour)
                painter.drawEllipse(line.at(0), 2, 2)
                painter.setBrush(Qt.BrushStyle.NoBrush)
            if line.count() and curve.style != "faint":
                ends.append((line.at(line.count() - 1).y(), curve))
        painter.restore()
        last = -100.0
        for y, curve in sorted(ends, key=lambda e: e[0]):
            y = max(min(max(y, area.top()), area.bottom()), last + 15)
            last = y
            painter.setPen(t.colour(curve.role))
            painter.drawText(QRectF(area.right() + 8, y - 9, RIGHT - 8, 18), Qt.AlignmentFlag.AlignVCenter, curve.name)

    def _paint_cursor(self, painter: QPainter, area: QRectF, epoch: int) -> None:
        """A line at an epoch, and the curves' values there."""
        t = look.theme
        lines = []
        for curve in self.curves:
            near = [(abs(x - epoch), y) for x, y in curve.points if abs(x - epoch) < 0.51]
            if near and curve.style != "faint":
                lines.append((curve, min(near)[1]))
        if not lines:
            return
        x = area.left() + epoch / self.span * area.width()
        painter.setPen(QPen(t.colour("faint"), 1))
        painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
        words = [f"epoch {epoch}"] + [f"{curve.name}  {self._figure(y, True)}".strip() for curve, y in lines]
        width = max(painter.fontMetrics().horizontalAdvance(w) for w in words) + 16
        left = x + 8 if x + 8 + width < area.right() + RIGHT else x - 8 - width
        box = QRectF(left, area.top() + 4, width, 18 * len(words) + 6)
        painter.setPen(t.colour("line"))
        painter.setBrush(t.colour("sheet"))
        painter.drawRoundedRect(box, look.RADIUS, look.RADIUS)
        for k, word in enumerate(words):
            painter.setPen(t.colour("faint" if k == 0 else lines[k - 1][0].role))
            painter.drawText(QRectF(left + 8, box.top() + 3 + 18 * k, width, 18), Qt.AlignmentFlag.AlignVCenter, word)

    def _figure(self, value: float, fine: bool = False) -> str:
        if self.unit == "%":
            return f"{value * 100:.1f}\u2009%" if fine else f"{value * 100:.0f}\u2009%"
        if fine:
            return f"{value:.3f}" if value >= 0.1 or value == 0 else f"{value:.2g}"
        return f"{value:g}"

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Read values."""
        if event is not None:
            area = self._area()
            inside = area.adjusted(-4, -4, 4, 4).contains(event.position())
            self._point(min(self.span, max(0.0, (event.position().x() - area.left()) / area.width() * self.span))
                        if inside else None)  # fmt: skip

    def leaveEvent(self, event: object) -> None:
        """Stop reading."""
        self._point(None)

    def _point(self, cursor: float | None) -> None:
        if cursor != self.read_at:
            self.show_cursor(cursor)
            self.pointed.emit(-1.0 if cursor is None else cursor)

    def show_cursor(self, cursor: float | None) -> None:
        """Read the values at an epoch, or none."""
        self.read_at = None if cursor is None or cursor < 0 else cursor
        self.update()


def round_steps(low: float, high: float, most: int) -> list[float]:
    """Round values from low to high, at most about ``most`` of them: steps of 1, 2 or 5 and zeros."""
    if not high > low:
        return [low]
    rough = (high - low) / most
    size = 10.0 ** math.floor(math.log10(rough))
    step = next(size * factor for factor in (1, 2, 5, 10) if size * factor >= rough * 0.999)
    first = math.ceil(low / step - 1e-9)
    last = math.floor(high / step + 1e-9)
    return [k * step for k in range(first, last + 1)]


def log_steps(low: float, high: float) -> list[float]:
    """Round values from low to high for a logarithmic axis: powers of ten, and their 2 and 5 where there are few."""
    powers = range(math.floor(math.log10(low)), math.ceil(math.log10(high)) + 1)
    every = [factor * 10.0**power for power in powers for factor in (1, 2, 5)]
    inside = [value for value in every if low <= value <= high]
    tens = [value for value in inside if math.isclose(math.log10(value) % 1, 0, abs_tol=1e-9)]
    return tens if len(tens) > 3 else inside


def reduced(points: tuple[tuple[float, float], ...], most: int) -> list[tuple[float, float]]:
    """At most about ``most`` points: of every stretch its first, least, greatest and last, in order."""
    if len(points) <= most:
        return list(points)
    size = math.ceil(4 * len(points) / most)
    points_kept: list[tuple[float, float]] = []
    for start in range(0, len(points), size):
        part = points[start : start + size]
        chosen = {part[0], part[-1], min(part, key=lambda p: p[1]), max(part, key=lambda p: p[1])}
        points_kept += sorted(chosen)
    return points_kept
