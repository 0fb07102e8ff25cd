"""Where the parts of a confusion matrix are, which of them are seen, and how strongly a cell is tinted."""

from __future__ import annotations

from dataclasses import dataclass
from math import ceil

import numpy as np
from numpy.typing import NDArray

NAMES, RATE = 84, 76
"""Narrowest column of names, and the column of rates."""
MOST_NAMES = 190
"""Widest column of names; longer ones are shortened, and whole in the tooltip."""
HEAD, MOST_HEAD = 46, 130
"""Height of the head with names across, and most of one with names along the columns."""
ACROSS = 56
"""Narrowest column, in pixels, whose name stands across it."""
LINE = 15
"""Pixels between two names."""
LEAST_CELL = 6.0
"""Cells narrower than this are painted as one picture."""
MOST_WIDE, MOST_TALL = 110.0, 92.0
"""Largest cell that is not zoomed."""


@dataclass(frozen=True)
class Places:
    """Where things are in the viewport, in pixels.

    Attributes
    ----------
    left, top
        Where the cells begin.
    wide, tall
        One cell.
    along
        Whether the columns' names stand along them.
    """

    left: float
    top: float
    wide: float
    tall: float
    along: bool


def shade(part: NDArray[np.float32] | np.float32, right: bool) -> NDArray[np.float32]:
    """Opacity 0–255 of a cell by its part of the true class; mistakes, which are fewer, gain faster."""
    return np.asarray(25 + 215 * (part if right else np.minimum(1.0, part * 2.2)), np.float32)


def seen(near: float, far: float, size: float, n: int) -> range:
    """Cells between two distances from the first."""
    return range(max(0, int(near // size)), max(0, min(n, int(far // size) + 1)))


def named(cells: range, size: float, over: int | None) -> list[int]:
    """Cells whose names stand at the edge without touching each other; the one under the mouse is always one."""
    every = max(1, ceil(LINE / size))
    chosen = [k for k in cells if k % every == 0]
    if over is None or over not in cells:
        return chosen
    return [*(k for k in chosen if abs(k - over) * size >= LINE), over]
