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
    across = np.argsort(places[:, 0], kind="stable")
    sorted_across, down = places[across, 0], places[:, 1]
    free = np.ones(len(places), np.bool_)
    shown = []
    for k in order:
        if free[k]:
            shown.append(k)
            x, y = places[k]
            near = across[sorted_across.searchsorted(x - side, "right") : sorted_across.searchsorted(x + side, "left")]
            free[near[np.abs(down[near] - y) < side]] = False
    return shown


def stamped(
    shape: tuple[int, int], points: NDArray[np.float64], colours: NDArray[np.uint8], stamp: NDArray[np.float64]
) -> NDArray[np.uint8]:
    """Many small marks drawn at once: H×W×4 uint8, red, green, blue and opacity.

    Parameters
    ----------
    shape : tuple of int
        Height and width.
    points : ndarray, N×2 float
        Middles of the marks, x and y in pixels; those outside are left out.
    colours : ndarray, N×4 uint8
        Of each, with its opacity.
    stamp : ndarray, S×S float
        Opacity of a mark, 0–1, S odd.
    """
    height, width = shape
    half = len(stamp) // 2
    wide = width + 2 * half
    canvas = np.zeros((height + 2 * half, wide, 4), np.uint8)
    flat = canvas.reshape(-1, 4).view(np.uint32)[:, 0]
    columns, rows = (np.floor(points[:, k]).astype(np.int64) + half for k in (0, 1))
    seen = (columns >= half) & (columns < width + half) & (rows >= half) & (rows < height + half)
    middles, drawn = rows[seen] * wide + columns[seen], np.ascontiguousarray(colours[seen])
    for k in np.argsort(stamp, axis=None, kind="stable").tolist():  # the strongest last, so that it stays
        strength = float(stamp.flat[k])
        if strength > 0:
            down, right = divmod(k, len(stamp))
            tint = drawn.copy()
            tint[:, 3] = (drawn[:, 3] * strength).astype(np.uint8)
            flat[middles + (down - half) * wide + right - half] = tint.view(np.uint32)[:, 0]
    return np.ascontiguousarray(canvas[half : half + height, half : half + width])


def disc(diameter: float, ring: float = 0.0) -> NDArray[np.float64]:
    """A stamp: a disc with soft edges, or a ring of a width."""
    half = int(np.ceil(diameter / 2)) + 1
    away = np.hypot(*np.mgrid[-half : half + 1, -half : half + 1])
    outside = np.clip(diameter / 2 + 0.5 - away, 0, 1)
    return np.asarray(outside * np.clip(away - (diameter / 2 - ring) + 0.5, 0, 1) if ring else outside)


def by_interest(wrong: NDArray[np.bool_]) -> list[int]:
    """The order in which images N claim their room: wrong ones first, then as they come, spread over all."""
    step = 7919  # a prime: any count of images that it does not divide is walked through whole, far apart
    count = len(wrong)
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
