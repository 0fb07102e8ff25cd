"""Columns and lanes in pixels: where plates stand on a bench of some size, how large they are, how ways run."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import cached_property

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainterPath, QPolygonF

from attentive_lens.window.bench.layout import Edge, Layout
from attentive_lens.window.bench.plates import Plate

CAPTIONS = 67
"""Pixels of the names under the rail."""
DEEP = 1.8
"""Depth of a folded block's plates, in its first one's."""
ARCH, LEAST_BAND = 13, 12
"""Pixels from one short cut's track to the next, and above all plates."""
RAISED, LEAST_RAISED = 100, 64
"""Pixels of a raised track with its plates and names, where there is room, and at least."""
SLANT = 0.42
"""Width of a square plate, at most, in parts of its height, for it is turned away."""
LEAST_RAIL = 120
"""Pixels of the rail with its plates and names, at least."""


def least_height(layout: Layout) -> int:
    """Pixels that a bench must be tall to show every lane."""
    return LEAST_BAND + ARCH * layout.level_count + LEAST_RAIL + LEAST_RAISED * (layout.lane_count - 1)


def _in_proportion(across: float, wide: float, height: float, least: float) -> tuple[float, float]:
    """Width and height within those of a square plate, of one that is so many times as wide as it is high."""
    lower = max(least, min(height, wide / (SLANT * across)))
    return max(least, min(wide, lower * SLANT * across)), lower


class Geometry:
    """The plates of a network on a bench of one size; what was worked out once is kept.

    Parameters
    ----------
    plates, layout
        What stands there, in columns and lanes.
    width, height : int
        The bench's, in pixels.
    tallest : int
        The tallest a plate of the rail may be.
    captions : int
        Pixels kept for names under the rail; 0 for a bench without any.
    """

    def __init__(
        self, plates: Sequence[Plate], layout: Layout, width: int, height: int, tallest: int, captions: int = CAPTIONS
    ) -> None:
        self.plates, self.layout, self.captions = plates, layout, captions
        self.width, self.height, self.tallest = width, height, tallest
        self.step = width / max(1, layout.column_count)
        self._forms: dict[int, tuple[QPolygonF, QRectF]] = {}
        self._ways: dict[Edge, tuple[QPainterPath, QPointF]] = {}

    @cached_property
    def band(self) -> float:
        """Pixels above all plates, where short cuts pass."""
        return LEAST_BAND + ARCH * self.layout.level_count if self.captions else 4.0 + 4 * self.layout.level_count

    @cached_property
    def raised(self) -> float:
        """Pixels of one raised track."""
        lanes = self.layout.lane_count - 1
        room = self.height - self.captions - self.band
        least = LEAST_RAISED if self.captions else 0
        return min(RAISED, max(least, room * 0.6 / lanes)) if lanes else 0.0

    def room(self, lane: int) -> float:
        """Pixels that a plate of a lane may be tall."""
        if lane:
            return self.raised - (26 if self.captions else 6)
        raised = self.raised * (self.layout.lane_count - 1)
        return min(self.tallest, self.height - self.captions - self.band - raised - 4)

    def middle(self, lane: int) -> float:
        """Height of a lane's rail."""
        top = self.band + self.raised * (self.layout.lane_count - 1)
        below = 9 if self.captions else 0
        return top - self.raised * (lane - 0.5) - below if lane else (top + self.height - self.captions) / 2

    def centre(self, place: int) -> QPointF:
        """Where a plate's middle is."""
        return QPointF(self.step * (self.layout.columns[place] + 0.5), self.middle(self.layout.lanes[place]))

    def plate_at(self, point: QPointF) -> int:
        """The plate of a column that is nearest to a point; the nearest of all where the column is empty."""

        def far(place: int) -> tuple[bool, float]:
            away = self.centre(place) - point
            return abs(away.x()) > self.step / 2, math.hypot(away.x(), away.y())

        return min(range(len(self.plates)), key=far)

    def form(self, place: int) -> tuple[QPolygonF, QRectF]:
        """The plate's glass, turned a little, and its edge."""
        if place not in self._forms:
            self._forms[place] = self._form(place)
        return self._forms[place]

    def _form(self, place: int) -> tuple[QPolygonF, QRectF]:
        plate = self.plates[place]
        first = math.sqrt(max(1, self.plates[0].shape[0]))
        flat = len(plate.shape) == 1
        part = 0.34 if flat or not plate.shape else max(0.16, min(1.0, math.sqrt(plate.shape[0]) / first))
        height = max(14.0 if self.captions else 4.0, self.room(self.layout.lanes[place]) * part / 1.09)
        depth = 5.0 if flat or not plate.shape else math.log2(1 + plate.shape[-1]) * 2.4
        depth = min(depth, self.step * 0.3)
        deep = depth * DEEP + 4 if plate.folded else depth
        gap, least = (14, 8.0) if self.captions else (3, 2.0)
        wide = least if flat else max(least, min(height * SLANT, self.step - deep - gap))
        if len(plate.shape) == 3 and plate.shape[0] != plate.shape[1]:  # narrower or lower, in its proportions
            wide, height = _in_proportion(plate.shape[1] / plate.shape[0], wide, height, least)
        centre = self.centre(place)
        x = centre.x() - (wide + deep) / 2
        up = 3.0 if flat else wide * 0.30
        top, bottom = centre.y() - height / 2, centre.y() + height / 2
        glass = QPolygonF(
            [
                QPointF(x, top + up / 2),
                QPointF(x + wide, top - up / 2),
                QPointF(x + wide, bottom - up / 2),
                QPointF(x, bottom + up / 2),
            ]
        )
        return glass, QRectF(x + wide, top - up / 2, depth, height)

    @cached_property
    def edges(self) -> list[Edge]:
        """Every way from one plate to another; none to what comes with an image, not from it."""
        return [
            (source, place) for place, plate in enumerate(self.plates) if not plate.is_input for source in plate.sources
        ]

    def edges_within(self, box: QRectF) -> list[Edge]:
        """Those that can be seen between the left and the right of a box."""
        first, last = box.left() / self.step - 0.5, box.right() / self.step - 0.5
        columns = self.layout.columns
        return [edge for edge in self.edges if columns[edge[0]] <= last and columns[edge[1]] >= first]

    def way(self, edge: Edge) -> tuple[QPainterPath, QPointF]:
        """How a source's output gets to a plate, and a point on it that is free of plates."""
        if edge not in self._ways:
            level = self.layout.arches.get(edge)
            self._ways[edge] = self._along(edge) if level is None else self._arch(edge, level)
        return self._ways[edge]

    def _along(self, edge: Edge) -> tuple[QPainterPath, QPointF]:
        """Along a lane, or up to another and down again in the column beside."""
        (source, place), lanes = edge, self.layout.lanes
        a, b = self.centre(source), self.centre(place)
        path, half = QPainterPath(a), self.step * 0.5
        if lanes[source] == lanes[place]:
            path.lineTo(b)
            return path, QPointF(b.x() - half, b.y())
        if lanes[place] > lanes[source]:
            turn = QPointF(a.x() + self.step, b.y())
            path.cubicTo(QPointF(a.x() + half, a.y()), QPointF(a.x() + half * 0.9, b.y()), turn)
            path.lineTo(b)
            return path, path.pointAtPercent(path.percentAtLength(path.length() * 0.5))
        path.lineTo(QPointF(b.x() - self.step, a.y()))
        path.cubicTo(QPointF(b.x() - half * 0.9, a.y()), QPointF(b.x() - half, b.y()), b)
        return path, path.pointAtPercent(path.percentAtLength(max(0.0, path.length() - self.step * 0.6)))

    def _arch(self, edge: Edge, level: int) -> tuple[QPainterPath, QPointF]:
        """Above every plate that is passed, and inside the bench."""
        a, b = self.centre(edge[0]), self.centre(edge[1])
        first, last = (self.layout.columns[place] for place in edge)
        passed = [k for k in range(edge[0], edge[1] + 1) if first <= self.layout.columns[k] <= last]
        top = min(self.form(k)[1].top() for k in passed)
        above, least = (12, 5.0) if self.captions else (4, 2.0)
        y, half = max(least, top - above - ARCH * (level - 1)), self.step * 0.36
        path = QPainterPath(a)
        path.cubicTo(QPointF(a.x() + half * 0.4, a.y()), QPointF(a.x() + half * 0.2, y), QPointF(a.x() + half, y))
        path.lineTo(QPointF(b.x() - half, y))
        path.cubicTo(QPointF(b.x() - half * 0.2, y), QPointF(b.x() - half * 0.4, b.y()), b)
        return path, QPointF((a.x() + b.x()) / 2, y)
