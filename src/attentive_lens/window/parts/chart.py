"""A curve over epochs or images seen: few lines with their names at their ends, and values wherever the mouse is.

Of curves longer than a point a pixel only the first, least, greatest and last of every stretch are drawn, so that a
run of any length costs the same to paint. Dragging along a chart shows that stretch alone, a double click all of it.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent
from PyQt6.QtWidgets import QLabel

from attentive_lens.core.objects import Same
from attentive_lens.window import look
from attentive_lens.window.parts.plot import Plot, figure
from attentive_lens.window.parts.pointing import READ, points
from attentive_lens.window.words import thousands

RIGHT = 92
"""Pixels at the right for the names of curves."""
NAME = 15
"""Pixels between two of them."""
LEAST_DRAG = 8
"""Pixels that a drag must have to mean a stretch."""
Points: TypeAlias = tuple[tuple[float, float], ...] | NDArray[np.float64]
"""(x, y) in order of x, as pairs or as N×2."""


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


class Chart(Plot):
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

    Attributes
    ----------
    images : int
        Of an epoch: images seen are written along the axis; 0: epochs are.
    """

    pointed, zoomed = pyqtSignal(float), pyqtSignal(float, float)

    def __init__(self, title: str, unit: str, name: str) -> None:
        super().__init__(title, name, (48, RIGHT, 34, 26), clips=True)
        points(self, lambda at: self.area().contains(QPointF(at)), READ)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.unit = unit
        self.curves: tuple[Curve, ...] = ()
        self.span = 1.0
        self.marked: float | None = None
        self.flags: tuple[tuple[float, str], ...] = ()
        self.stretch: tuple[float, float] | None = None
        self.log = False
        self.images = 0
        self.read_at: float | None = None
        self._dragged: tuple[float, float] | None = None
        self._reduced: dict[tuple[Same, tuple[float, float], int], NDArray[np.float64]] = {}
        self._readout = QLabel(self)
        self._readout.setObjectName("readout")
        self._readout.setTextFormat(Qt.TextFormat.RichText)
        self._readout.setFont(look.font(look.SMALL))
        self._readout.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self._readout.hide()
        self.setMinimumSize(QSize(240, 140))

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
        self.refresh()

    def show_stretch(self, low: float, high: float) -> None:
        """Show some epochs alone; all where there are none between."""
        self.stretch = (max(0.0, low), high) if high > low else None
        self.refresh()

    def show_log(self, log: bool) -> None:
        """Draw values by their logarithm, or as they are."""
        self.log = log
        self.refresh()

    @property
    def seen(self) -> tuple[float, float]:
        """First and last epoch that is shown."""
        if self.stretch is None or self.stretch[0] >= self.span:
            return 0.0, self.span
        return self.stretch[0], min(self.stretch[1], self.span)

    def _drawn(self, curve: Curve) -> NDArray[np.float64]:
        """The points of a curve that are drawn, worked out once for each stretch and width."""
        width = max(50, int(self.area().width()))
        key = (Same(curve), self.seen, width)
        if key not in self._reduced:
            self._reduced[key] = reduced(points_within(curve.points, *self.seen, 1), width)
        return self._reduced[key]

    def limits(self) -> tuple[float, float]:
        """The least and greatest value that is drawn."""
        if self.unit == "%":
            return 0.0, 1.0
        values = np.concatenate([np.zeros(0), *(self._drawn(curve)[:, 1] for curve in self.curves)])
        values = values[np.isfinite(values)]
        if self.log:
            values = values[values > 0]
            least, most = (float(values.min()), float(values.max())) if len(values) else (0.1, 1.0)
            return least / 1.1, max(most, least * 1.5) * 1.1
        if not len(values):
            return 0.0, 1.0
        few = len(values) < 20
        top = float(values.max()) if few else float(np.quantile(values, 0.98))
        if values.min() < 0:  # of both signs: what is far off at either end is left out
            low = float(values.min()) if few else float(np.quantile(values, 0.05))
            room = max((top - low) * 0.06, 1e-12)
            return low - room, top + room
        return 0.0, max(top * 1.06, 1e-12)

    def draw(self) -> None:
        """Curves, their names at their ends, what is marked, and the values under the mouse."""
        self.set_range(self.seen, self.limits(), ("", self.unit), "y" if self.log else "")
        self.count_across(self.images)
        if self._dragged is not None:
            self.band(*self._dragged, "petrol", 40)
        for epoch, words in (*self.flags, *([(self.marked, "best")] if self.marked is not None else [])):
            if self.seen[0] <= epoch <= self.seen[1]:
                best = words == "best"
                self.upright(epoch, "petrol" if best else "ochre", "dotted" if best else "dashed", words)
        ends: list[tuple[float, Curve]] = []
        for curve in self.curves:
            points = self._drawn(curve)
            points = points[np.isfinite(points[:, 1])]
            if not len(points):
                continue
            faint = curve.style == "faint"
            style = "line" if faint else curve.style
            self.line(points, curve.role, 1 if faint else 2, style, 90 if faint else 255)
            if not faint:
                ends.append((self.place(*points[-1]).y(), curve))
        last, area = -100.0, self.area()
        for y, curve in sorted(ends, key=lambda end: end[0]):
            last = max(min(max(y, area.top()), area.bottom()), last + NAME)
            self.words(curve.name, QPointF(area.right() + 8, last), curve.role, align=0.0)
        self._read()

    def _read(self) -> None:
        """A line at the epoch under the mouse, and the curves' values there."""
        lines = []
        epoch = round(self.read_at or 0)
        for curve in self.curves if self.read_at is not None else ():
            near = points_within(curve.points, epoch - 0.51, epoch + 0.51)
            if curve.style != "faint" and len(near):
                value = float(near[np.abs(near[:, 0] - epoch).argmin(), 1])
                words = f"{curve.name}\u2002{figure(value, self.unit, fine=True)}".strip()
                lines.append(f'<span style="color:{look.theme.colour(curve.role).name()}">{words}</span>')
        self._readout.setVisible(bool(lines))
        if lines:
            self.upright(epoch, "faint")
            seen = f", {thousands(epoch * self.images)} images" if self.images else ""
            self._readout.setText("<br>".join([f"epoch {epoch}{seen}", *lines]))
            self._readout.adjustSize()
            x, wide = self.place_across(epoch), self._readout.width()
            left = x + 8 if x + 8 + wide < self.width() else x - 8 - wide
            self._readout.move(round(left), round(self.area().top() + 4))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Read values."""
        if event is not None:
            at = self.value(event.position())[0]
            if self._dragged is not None:
                self._dragged = (self._dragged[0], at)
                self.refresh()
            inside = self.area().adjusted(-4, -4, 4, 4).contains(event.position())
            self._point(at if inside else None)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Begin to choose a stretch."""
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            at = self.value(event.position())[0]
            self._dragged = (at, at)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Show the stretch that was chosen."""
        if self._dragged is None:
            return
        low, high = sorted(self._dragged)
        self._dragged = None
        if self.place_across(high) - self.place_across(low) >= LEAST_DRAG:
            self.zoomed.emit(low, high)
        self.refresh()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """Show all again."""
        self._dragged = None
        self.zoomed.emit(0.0, 0.0)

    def leaveEvent(self, event: object) -> None:
        """Stop reading."""
        self._point(None)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right read the values of the epoch before and after, Home and End of the ends.

        Plus and minus show a half, and twice as much, about it; Escape shows all.
        """
        key = Qt.Key(event.key()) if event is not None else Qt.Key.Key_unknown
        low, high = self.seen
        at = self.read_at if self.read_at is not None else high
        places = {Qt.Key.Key_Left: at - 1, Qt.Key.Key_Right: at + 1, Qt.Key.Key_Home: low, Qt.Key.Key_End: high}
        half = {Qt.Key.Key_Plus: (high - low) / 4, Qt.Key.Key_Minus: high - low}.get(key)
        if key in places:
            self._point(min(max(float(round(places[key])), low), high))
        elif half is not None:
            wide = max(2 * half, 1.0)
            first = min(max(0.0, at - half), max(0.0, self.span - wide))
            self.zoomed.emit(*((0.0, 0.0) if wide >= self.span else (first, first + wide)))
        elif key == Qt.Key.Key_Escape and self.stretch is not None:
            self.zoomed.emit(0.0, 0.0)
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        """With keys one reads from the last epoch on."""
        super().focusInEvent(event)
        if event is not None and event.reason() in (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason):
            self._point(self.seen[1])

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        """Stop reading."""
        super().focusOutEvent(event)
        self._point(None)

    def _point(self, cursor: float | None) -> None:
        if cursor != self.read_at:
            self.show_cursor(cursor)
            self.pointed.emit(-1.0 if cursor is None else cursor)

    def show_cursor(self, cursor: float | None) -> None:
        """Read the values at an epoch, or none."""
        self.read_at = None if cursor is None or cursor < 0 else cursor
        self.refresh()


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
