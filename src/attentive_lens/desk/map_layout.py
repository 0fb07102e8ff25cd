"""Which pictures of a map of the data can be shown without one lying on another."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

MARGIN = 0.04
"""Left free about the outermost images, part of the longer side."""


def into_unit(places: NDArray[np.float64]) -> NDArray[np.float64]:
    """Places N×2 moved and scaled, both ways alike, so that they fill a unit square but for a margin."""
    low, high = places.min(axis=0), places.max(axis=0)
    longest = max(float((high - low).max()), 1e-12)
    return np.asarray((places - (low + high) / 2) / longest * (1 - 2 * MARGIN) + 0.5)


def shown_apart(places: NDArray[np.float64], order: Iterable[int], side: float) -> list[int]:
    """Rows of places N×2 where squares of a side can stand without overlapping, taken greedily in an order."""
    taken: dict[tuple[int, int], list[tuple[float, float]]] = {}
    shown = []
    columns = places.tolist()
    for k in order:
        x, y = columns[k]
        column, row = int(x // side), int(y // side)
        near = (
            other
            for right in (column - 1, column, column + 1)
            for down in (row - 1, row, row + 1)
            for other in taken.get((right, down), ())
        )
        if all(abs(x - u) >= side or abs(y - v) >= side for u, v in near):
            taken.setdefault((column, row), []).append((x, y))
            shown.append(k)
    return shown


def by_interest(said: NDArray[np.int64], true: NDArray[np.int64]) -> list[int]:
    """The order in which images claim their room: wrong ones first, then as they come, spread over all."""
    wrong = said != true
    step = 7919  # a prime: any count of images that it does not divide is walked through whole, far apart
    count = len(said)
    spread = np.arange(count) * (step if count % step else 1) % max(1, count)
    return [*spread[wrong[spread]].tolist(), *spread[~wrong[spread]].tolist()]


def inside(polygon: NDArray[np.float64], places: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Which of places N×2 lie in a polygon M×2, by the even-odd rule."""
    within = np.zeros(len(places), np.bool_)
    x, y = places[:, 0], places[:, 1]
    for (u, v), (p, q) in zip(polygon, np.roll(polygon, -1, axis=0), strict=True):
        if v != q:
            crossing = (v > y) != (q > y)
            within ^= crossing & (x < (p - u) * (y - v) / (q - v) + u)
    return within
