"""The smallest square whose covering changes an answer."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.covering import covered
from attentive_lens.explaining.probe import Probe

MOST = 100_000
"""Squares tried to prove that no smaller one does, at most; where there are more, the one found is only a small one."""
AT_ONCE = 64


@dataclass(frozen=True)
class Cover:
    """A square that changes the answer.

    Attributes
    ----------
    row, column, side, across : float
        Its middle, its height in parts of the image's, and its width in parts of the image's, 0–1.
    pixels : int
        Its side in pixels.
    predicted : int
        The class answered then.
    """

    row: float
    column: float
    side: float
    across: float
    pixels: int
    predicted: int


@dataclass(frozen=True)
class Search:
    """What a search found: a square, or None; and whether every smaller one was tried at every place."""

    cover: Cover | None
    complete: bool


def smallest_cover(probe: Probe, image: Array, most: int = MOST) -> Job[Search]:
    """The smallest square of a prepared image H×W×C whose covering with the image's mean changes the answer.

    Squares up to half the side, at every place. Halving between sides finds one that does where none a pixel smaller
    does; then all other smaller sides are tried, the smallest first, for a smaller square may change what a larger one
    does not. Of the places of the side found, the one that changes the answer most surely is taken.
    """
    largest = max(1, min(image.shape[:2]) // 2)
    predicted = int(probe.predicted(probe.scores(image[None]))[0])
    without: set[int] = set()
    low, high = 0, largest + 1
    side = largest
    while high - low > 1:
        if (yield from _changes(probe, image, side, predicted)):
            high = side
        else:
            without.add(side)
            low = side
        side = (low + high) // 2
    rest = [side for side in range(1, min(high, largest + 1)) if side not in without]
    complete = sum(len(_corners(image, side)) for side in rest) <= most
    for side in rest if complete else []:
        cover = yield from _surest(probe, image, side, predicted)
        if cover is not None:
            return Search(cover, complete)
    cover = (yield from _surest(probe, image, high, predicted)) if high <= largest else None
    return Search(cover, complete)


def _changes(probe: Probe, image: Array, side: int, predicted: int) -> Job[bool]:
    """Whether any square of this side changes the answer."""
    corners = _corners(image, side)
    for first in range(0, len(corners), AT_ONCE):
        part = corners[first : first + AT_ONCE]
        if (probe.predicted(probe.scores(covered(image, _squares(part, side)))) != predicted).any():
            return True
        yield Progress(first, len(corners), "covering squares")
    return False


def _surest(probe: Probe, image: Array, side: int, predicted: int) -> Job[Cover | None]:
    """The square of this side that changes the answer most surely; None if none does."""
    height, width = image.shape[:2]
    corners = _corners(image, side)
    best: tuple[float, int, int, int] | None = None
    for first in range(0, len(corners), AT_ONCE):
        part = corners[first : first + AT_ONCE]
        scores = probe.scores(covered(image, _squares(part, side)))
        others = probe.predicted(scores)
        gaps = np.where(others != predicted, scores[np.arange(len(part)), others] - scores[:, predicted], -np.inf)
        at = int(gaps.argmax())
        if np.isfinite(gaps[at]) and (best is None or gaps[at] > best[0]):
            best = (float(gaps[at]), *part[at], int(others[at]))
        yield Progress(first, len(corners), "covering squares")
    if best is None:
        return None
    _, row, column, other = best
    middle = (row + side / 2) / height, (column + side / 2) / width
    return Cover(*middle, side / height, side / width, side, other)


def _corners(image: Array, side: int) -> list[tuple[int, int]]:
    height, width = image.shape[:2]
    return [(row, column) for row in range(height - side + 1) for column in range(width - side + 1)]


def _squares(corners: list[tuple[int, int]], side: int) -> list[tuple[slice, slice]]:
    return [(slice(row, row + side), slice(column, column + side)) for row, column in corners]
