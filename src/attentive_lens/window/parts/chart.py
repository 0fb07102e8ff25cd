"""A curve over epochs: few lines, an axis with round numbers, a value wherever the mouse is.

Of curves longer than a point a pixel only the first, least, greatest and last of every stretch are drawn, so that a
run of any length costs the same to paint. Dragging along a chart shows that stretch alone, a double click all of it.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from attentive_lens.core.objects import Same
from attentive_lens.window import look

LEFT, RIGHT, TOP, BOTTOM = 48, 92, 34, 26
LEAST_DRAG = 8
"""Pixels that a drag must have to mean a stretch."""
Points: TypeAlias = tuple[tuple[float, float], ...] | NDArray[np.float64]
"""(x, y) in order of x, as pairs or as N×2."""
LINES = {"dashed": Qt.PenStyle.DashLine, "dotted": Qt.PenStyle.DotLine}
"""Styles of lines that are broken."""


@dataclass(frozen=True)
class Curve:
    """A line: what it is, its points, its colour's role, and how it is drawn.

    Attributes
    ----------
    name : str
        Written at its end.
    points : Points
        In order of x.
    role : str
        Token of its colour.
    style : str
        "line", "dashed", "dotted" or "faint".
    """

    name: str
    points: Points
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
    zoomed
        The stretch of epochs that is to be seen; both zero for all.
    """

    pointed, zoomed = pyqtSignal(float), pyqtSignal(float, float)

    def __init__(self, title: str, unit: str, name: str) -> None:
        super().__init__()
        self.setObjectName(name)
        self.setAccessibleName(title)
        self.title, self.unit = title, unit
        self.curves: tuple[Curve, ...] = ()
        self.span = 1.0
        self.marked: float | None = None
        self.flags: tuple[tuple[float, str], ...] = ()
        self.stretch: tuple[float, float] | None = None
        self._dragged: tuple[float, float] | None = None
        self._reduced: dict[tuple[Same, tuple[float, float], int], NDArray[np.float64]] = {}
        self.log = False
        self.read_at: float | None = None
        self.setMouseTracking(True)
        self.setMinimumSize(QSize(240, 140))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def show_curves(
        self,
        curves: tuple[Curve, ...],
        span: float,
        marked: float | None = None,
        flags: tuple[tuple[float, str], ...] = (),
    ) -> None:
        """Draw other curves over epochs 0 to ``span``; ``marked`` is the best epoch, flags tell what began where."""
        self.curves, self.span, self.marked, self.flags = curves, max(span, 1.0), marked, flags
        self._reduced = {}
        self.update()

    def show_stretch(self, low: float, high: float) -> None:
        """Show some epochs alone; all where there are none between."""
        self.stretch = (max(0.0, low), high) if high > low else None
        self.update()

    @property
    def seen(self) -> tuple[float, float]:
        """First and last epoch that is shown."""
        if self.stretch is None or self.stretch[0] >= self.span:
            return 0.0, self.span
        return self.stretch[0], min(self.stretch[1], self.span)

    def _drawn(self, curve: Curve) -> NDArray[np.float64]:
        """The points of a curve that are drawn, worked out once for each stretch and width."""
        width = max(50, int(self._area().width()))
        key = (Same(curve), self.seen, width)
        if key not in self._reduced:
            self._reduced[key] = reduced(points_within(curve.points, *self.seen, 1), width)
        return self._reduced[key]

    def _x(self, epoch: float, area: QRectF) -> float:
        low, high = self.seen
        return area.left() + (epoch - low) / (high - low) * area.width()

    def _epoch(self, x: float, area: QRectF) -> float:
        low, high = self.seen
        return min(high, max(low, low + (x - area.left()) / area.width() * (high - low)))

    def show_log(self, log: bool) -> None:
        """Draw values by their logarithm, or as they are."""
        self.log = log
        self.update()

    def _limits(self) -> tuple[float, float]:
        """The least and greatest value that is drawn."""
        if self.unit == "%":
            return 0.0, 1.0
        parts = [self._drawn(curve)[:, 1] for curve in self.curves]
        values = np.concatenate([np.zeros(0), *parts])
        values = values[np.isfinite(values)]
        if self.log:
            values = values[values > 0]
            least, most = (float(values.min()), float(values.max())) if len(values) else (0.1, 1.0)
            return least / 1.1, max(most, least * 1.5) * 1.1
        if not len(values):
            return 0.0, 1.0
        top = float(values.max()) if len(values) < 20 else float(np.quantile(values, 0.98))
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
        for value in round_steps(*self.seen, 8):
            if value != int(value) and self.stretch is None:
                continue
            x = self._x(value, area)
            painter.setPen(t.colour("faint"))
            at = QRectF(x - 30, area.bottom() + 4, 60, 18)
            painter.drawText(at, Qt.AlignmentFlag.AlignCenter, f"{value:g}")
        for epoch, words in self.flags:
            self._paint_flag(painter, area, epoch, words)
        if self.marked is not None and self.seen[0] <= self.marked <= self.seen[1]:
            x = self._x(self.marked, area)
            painter.setPen(QPen(t.colour("petrol"), 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
            at = QRectF(x - 16, area.bottom() - 20, 32, 16)
            painter.fillRect(at, t.colour("sheet", 220))
            painter.setPen(t.colour("petrol"))
            painter.drawText(at, Qt.AlignmentFlag.AlignCenter, "best")
        self._paint_curves(painter, area, low, high)
        if self._dragged is not None:
            one, other = (self._x(epoch, area) for epoch in self._dragged)
            painter.fillRect(QRectF(one, area.top(), other - one, area.height()), t.colour("petrol", 40))
        if self.read_at is not None:
            self._paint_cursor(painter, area, round(self.read_at))

    def _paint_flag(self, painter: QPainter, area: QRectF, epoch: float, words: str) -> None:
        """Where trouble began: a line in ochre from its name down."""
        if not self.seen[0] <= epoch <= self.seen[1]:
            return
        x, t = self._x(epoch, area), look.theme
        painter.setPen(QPen(t.colour("ochre"), 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
        width = painter.fontMetrics().horizontalAdvance(words) + 12
        left = min(max(area.left(), x - width / 2), area.right() - width)
        box = QRectF(left, area.bottom() - 20, width, 17)
        painter.setPen(QPen(t.colour("ochre"), 1))
        painter.setBrush(t.colour("sheet"))
        painter.drawRoundedRect(box, look.RADIUS, look.RADIUS)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)

    def _paint_curves(self, painter: QPainter, area: QRectF, low: float, high: float) -> None:
        t = look.theme
        ends: list[tuple[float, Curve]] = []
        painter.save()
        painter.setClipRect(area.adjusted(-2, -2, 2, 2))
        for curve in self.curves:
            if not len(curve.points):
                continue
            points = self._drawn(curve)
            line = QPolygonF(
                [
                    QPointF(
                        self._x(x, area),
                        area.bottom() - self._height(min(y, high * 2), low, high) * area.height(),
                    )
                    for x, y in points.tolist()
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
            if curve.style == "faint":
                continue
            near = points_within(curve.points, epoch - 0.51, epoch + 0.51)
            if len(near):
                lines.append((curve, float(near[np.abs(near[:, 0] - epoch).argmin(), 1])))
        if not lines:
            return
        x = self._x(epoch, area)
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
            at = self._epoch(event.position().x(), area)
            if self._dragged is not None:
                self._dragged = (self._dragged[0], at)
                self.update()
            inside = area.adjusted(-4, -4, 4, 4).contains(event.position())
            self._point(at if inside else None)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Begin to choose a stretch."""
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            at = self._epoch(event.position().x(), self._area())
            self._dragged = (at, at)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Show the stretch that was chosen."""
        if self._dragged is None:
            return
        low, high = sorted(self._dragged)
        self._dragged = None
        area = self._area()
        if self._x(high, area) - self._x(low, area) >= LEAST_DRAG:
            self.zoomed.emit(low, high)
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """Show all again."""
        self._dragged = None
        self.zoomed.emit(0.0, 0.0)

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


def points_within(points: Points, low: float, high: float, more: int = 0) -> NDArray[np.float64]:
    """The points from one x to another, and so many on each side besides: N×2."""
    every = np.asarray(points, np.float64).reshape(-1, 2)
    first, last = np.searchsorted(every[:, 0], (low - 1e-9, high + 1e-9))
    return every[max(0, int(first) - more) : int(last) + more]


def reduced(points: Points, most: int) -> NDArray[np.float64]:
    """At most about ``most`` points, N×2: of every stretch its first, least, greatest and last, in order."""
    every = np.asarray(points, np.float64).reshape(-1, 2)
    if len(every) <= most:
        return every
    size = math.ceil(4 * len(every) / most)
    starts = np.arange(0, len(every), size)
    ends = np.minimum(starts + size, len(every)) - 1
    values = np.ascontiguousarray(every[:, 1])
    whole = len(every) // size
    blocks = values[: whole * size].reshape(whole, size)
    places = [starts, ends, starts[:whole] + blocks.argmin(axis=1), starts[:whole] + blocks.argmax(axis=1)]
    if whole * size < len(every):
        rest = values[whole * size :]
        places.append(whole * size + np.array([rest.argmin(), rest.argmax()]))
    chosen: NDArray[np.float64] = every[np.unique(np.concatenate(places))]
    return chosen
