"""The same small thing in a few images: a stamp, a label, a pen, found by its likeness from image to image."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import label, maximum_filter, uniform_filter
from scipy.spatial import cKDTree
from scipy.stats import poisson

from attentive_lens.core.jobs import Job, breathe
from attentive_lens.images.faults.base import Evidence, at_a_time
from attentive_lens.images.preprocessing import LUMA_CHROMA

SAMPLED = 6000
"""Images that are looked at, at most."""
SIDE = 64
"""Pixels of a side, about, at which things are looked for; larger images are averaged down by whole blocks."""
WIDTHS = (3, 5, 9)
"""Pixels across of what is looked for."""
STANDS_OUT = 12.0
"""Levels, in luma and chromas together, by which a thing differs from what is round it on all sides."""
EACH = 6
"""Things of an image that are compared, those that stand out most."""
SMALLEST = 6
"""Pixels that a thing covers, at least."""
LUMA, CHROMA, PIXELS, FILLED, PLACE = 3.0, 5.0, 1.0, 0.25, 2.0
"""One step of difference: levels, pixels of height and width, part of the box that is filled, pixels of place."""
REACHES = (2.0, 2.5, 3.0, 4.0)
"""Steps within which things are the same."""
AT_ONCE = 200
"""Things whose neighbours are counted between two breaths."""
FEWEST = 5
"""Images, unlike each other, in which the same thing must be."""
OFTEN = 1 / 8
"""Part of the images from which on a thing belongs to the set."""
SHELL = 7
"""Times as much room there is between a reach and twice the reach as within it, were things spread in three ways."""
CHANCE = 1e-6
"""Probability, at most, that so many things lie within a reach, by the number of those just beyond it."""
BEYOND = 0.25
"""Part of the images within a reach that may have something just beyond it."""
ONCE = 1.3
"""Things of one kind an image may have, in the mean, twice the reach counted: what comes back within an image is its
pattern."""
KNOWN = 0.5
"""Part of the images with a thing that others account for, from which on it is nothing new."""
ALIKE = 0.85
"""Correlation of two images, at 8×8 pixels, from which they show the same thing altogether."""


@dataclass(frozen=True)
class Recurring:
    """A small thing that is in several images.

    Attributes
    ----------
    places : ndarray, M int64
        The images, by place.
    spot : tuple of float or None
        Row and column of its middle and its side, parts of the image's side; None where it is at different places.
    across : float
        Its larger side, part of the image's side.
    looked : int
        Images that were looked at.
    """

    places: NDArray[np.int64]
    spot: tuple[float, float, float] | None
    across: float
    looked: int

    def is_known(self, others: Iterable[NDArray[np.int64]]) -> bool:
        """Whether some other images account for these."""
        return any(np.isin(self.places, places).mean() > KNOWN for places in others)


@dataclass(frozen=True)
class _Things:
    """Small things that stand out.

    Attributes
    ----------
    images : ndarray, N int64
        Where each is, by position among the images looked at.
    middles : ndarray, N×2 float64
        Row and column, pixels.
    looks : ndarray, N×D float64
        Colour, height, width, and how much of its box it fills, in steps.
    across : ndarray, N int64
        The larger side, pixels.
    """

    images: NDArray[np.int64]
    middles: NDArray[np.float64]
    looks: NDArray[np.float64]
    across: NDArray[np.int64]


def recurring(evidence: Evidence) -> Job[list[Recurring]]:
    """Things that several images have once each, at one place or at different ones, and that nothing is nearly like.

    A thing is a closed spot that differs from what is round it on all sides. It is the same in two images where
    colour, size and shape agree; things that chance makes alike have neighbours that are nearly so, a foreign thing
    has none. Copies of one picture count once. What is transparent takes the colour of what it lies on, and is found
    only where that is the same.
    """
    looked = np.unique(np.linspace(0, len(evidence) - 1, min(SAMPLED, len(evidence))).astype(int))
    step = max(1, evidence.side // SIDE)
    side = evidence.side // step
    if len(looked) < FEWEST or side < 2 * max(WIDTHS):
        return []
    parts, small = list[_Things](), list[NDArray[np.float32]]()
    for progress, part in at_a_time(len(looked), "looking for things that come back", 4):
        yield progress
        images = _averaged(evidence.images(looked[part]), step)
        images = np.asarray(images @ LUMA_CHROMA.T if images.shape[3] == 3 else images, np.float32)
        small.append(_averaged(images, side // 8))
        parts.append(_things(images, int(part[0])))
    things = _Things(*(np.concatenate([getattr(each, name) for each in parts]) for name in _Things.__annotations__))
    thumbs = np.concatenate(small)
    thumbs = (thumbs - thumbs.mean(axis=(1, 2), keepdims=True)).reshape(len(thumbs), -1)
    thumbs /= np.maximum(np.linalg.norm(thumbs, axis=1, keepdims=True), 1e-6)
    result: list[Recurring] = []
    for of_place in (True, False):
        for group in _groups(things, thumbs, of_place):
            images = np.unique(things.images[group])
            places = looked[images].astype(np.int64)
            across = float(np.median(things.across[group])) / side
            row, column = np.median(things.middles[group], axis=0) / side
            spot = (float(row), float(column), across) if of_place else None
            thing = Recurring(places, spot, across, len(looked))
            if len(images) <= OFTEN * len(looked) and not thing.is_known(known.places for known in result):
                result.append(thing)
    return result


def _averaged(images: NDArray[np.generic], step: int) -> NDArray[np.float32]:
    """Means of whole blocks of pixels."""
    side = images.shape[1] // step
    cut = images[:, : side * step, : side * step].astype(np.float32)
    return np.asarray(cut.reshape(len(cut), side, step, side, step, -1).mean(axis=(2, 4)), np.float32)


def _things(images: NDArray[np.float32], first: int) -> _Things:
    """Closed spots of some images, N×H×W×C, the first of which has a number."""
    score, width = _standing_out(images)
    peaks = (score == maximum_filter(score, (0, 5, 5))) & (score > STANDS_OUT)
    numbers, middles, looks, across = list[int](), list[tuple[int, int]](), list[list[float]](), list[int]()
    for k in range(len(images)):
        rows, columns = np.nonzero(peaks[k])
        for at in np.argsort(-score[k, rows, columns], kind="stable")[:EACH]:
            row, column = int(rows[at]), int(columns[at])
            look = _look(images[k], row, column, int(width[k, row, column]))
            if look is not None:
                numbers.append(first + k)
                middles.append((row, column))
                looks.append(look[0])
                across.append(look[1])
    channels = images.shape[3]
    return _Things(
        np.array(numbers, np.int64),
        np.array(middles, np.float64).reshape(-1, 2),
        np.array(looks, np.float64).reshape(-1, channels + 3),
        np.array(across, np.int64),
    )


def _standing_out(images: NDArray[np.float32]) -> tuple[NDArray[np.float32], NDArray[np.int8]]:
    """By how much the middle differs, beyond its own spread, from the least different side; and at which width."""
    channels, side = np.ascontiguousarray(np.moveaxis(images, 3, 0)), images.shape[1]  # each by itself: thrice as fast
    best, width = np.zeros(images.shape[:3], np.float32), np.zeros(images.shape[:3], np.int8)
    about = uniform_filter(channels, (0, 0, 3, 3), mode="nearest")
    squares = (channels**2).sum(axis=0)
    for w in WIDTHS:
        breathe()
        middle = uniform_filter(channels, (0, 0, w, w), mode="nearest")
        spread = uniform_filter(squares, (0, w, w), mode="nearest") - (middle**2).sum(axis=0)
        away, half = w // 2 + 2, w // 2
        padded = np.pad(about, ((0, 0), (0, 0), (away, away), (away, away)), constant_values=np.inf)
        least = np.full(images.shape[:3], np.inf, np.float32)
        for down, across in _sides(away):
            there = padded[:, :, away + down : away + down + side, away + across : away + across + side]
            np.minimum(least, ((there - middle) ** 2).sum(axis=0), out=least)
        score = np.sqrt(least) - np.sqrt(np.maximum(spread, 0))
        inner = np.zeros((side, side), bool)
        inner[half : side - half, half : side - half] = True
        inner &= _open_corners(side, away)
        higher = inner & (score > best)
        best[higher], width[higher] = score[higher], w
    return best, width


def _sides(away: int) -> Iterator[tuple[int, int]]:
    return ((down, across) for down in (-away, 0, away) for across in (-away, 0, away) if down or across)


def _open_corners(side: int, away: int) -> NDArray[np.bool_]:
    """Where at most one side is outside the image: in a corner everything stands out."""
    near = (np.arange(side) < away) | (np.arange(side) >= side - away)
    return ~(near[:, None] & near)


def _look(image: NDArray[np.float32], row: int, column: int, width: int) -> tuple[list[float], int] | None:
    """Colour, height, width and filling of a spot, in steps, and its larger side; None where it is not closed."""
    side, reach, away = len(image), width // 2 + 5, width // 2 + 3
    top, left = max(row - reach, 0), max(column - reach, 0)
    around = image[top : row + reach + 1, left : column + reach + 1]
    core = np.median(image[max(row - 1, 0) : row + 2, max(column - 1, 0) : column + 2], axis=(0, 1))
    rows, columns = row + _RINGS[away][0], column + _RINGS[away][1]
    within = (rows >= 0) & (rows < side) & (columns >= 0) & (columns < side)
    ring = np.median(image[rows[within], columns[within]], axis=0)
    nearer = ((around - core) ** 2).sum(axis=2) < ((around - ring) ** 2).sum(axis=2)
    parts, _ = label(nearer)
    own = parts[row - top, column - left]
    if not own:
        return None
    inside = parts == own
    down, across = np.flatnonzero(inside.any(axis=1)), np.flatnonzero(inside.any(axis=0))
    reaches_on = (
        (down[0] == 0 and top > 0)
        or (across[0] == 0 and left > 0)
        or (down[-1] == len(inside) - 1 and top + len(inside) < side)
        or (across[-1] == inside.shape[1] - 1 and left + inside.shape[1] < side)
    )
    area = int(inside.sum())
    if reaches_on or area < SMALLEST:
        return None
    height, breadth = int(np.ptp(down)) + 1, int(np.ptp(across)) + 1
    steps = (LUMA, CHROMA, CHROMA) if image.shape[2] == 3 else (LUMA,) * image.shape[2]
    colour = [float(value) / one for value, one in zip(np.median(around[inside], axis=0), steps, strict=True)]
    return [*colour, height / PIXELS, breadth / PIXELS, area / (height * breadth) / FILLED], max(height, breadth)


def _ring(away: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    places = np.asarray(np.mgrid[-away : away + 1, -away : away + 1].reshape(2, -1), np.int64)
    at = np.abs(places).max(axis=0) == away
    return places[0, at], places[1, at]


_RINGS = {width // 2 + 3: _ring(width // 2 + 3) for width in WIDTHS}
"""Rows and columns about a middle, by the distance of their square."""


def _groups(things: _Things, thumbs: NDArray[np.float32], of_place: bool) -> list[NDArray[np.int64]]:
    """Things that are the same, by their numbers; the largest group first, none of which shares images with another."""
    looks = np.concatenate([things.looks, things.middles / PLACE], axis=1) if of_place else things.looks
    if len(looks) < FEWEST:
        return []
    tree = cKDTree(looks)
    candidates = list[tuple[int, NDArray[np.int64]]]()
    for reach in REACHES:
        within, wider = _neighbours(tree, looks, reach), _neighbours(tree, looks, 2 * reach)
        for number in np.flatnonzero((within >= FEWEST) & (wider <= 2 * within)):
            breathe()
            same = np.array(tree.query_ball_point(looks[number], reach), np.int64)
            near = np.array(tree.query_ball_point(looks[number], 2 * reach), np.int64)
            images, every = np.unique(things.images[same]), np.unique(things.images[near])
            beyond = len(every) - len(images)
            if (
                len(images) >= FEWEST
                and beyond <= BEYOND * len(images)
                and len(near) <= ONCE * len(every)
                and poisson.sf(len(images) - 1, (beyond + 1) / SHELL) < CHANCE
                and _unlike(images, thumbs) >= FEWEST
            ):
                candidates.append((len(images), same))
    groups, taken = list[NDArray[np.int64]](), set[int]()
    for _, same in sorted(candidates, key=lambda each: -each[0]):
        carriers = set(things.images[same].tolist())
        if not carriers & taken:
            groups.append(same)
            taken |= carriers
    return groups


def _neighbours(tree: cKDTree, looks: NDArray[np.float64], reach: float) -> NDArray[np.int64]:
    """How many things lie within a reach of each, itself among them."""
    counts = np.empty(len(looks), np.int64)
    for first in range(0, len(looks), AT_ONCE):
        breathe()
        part = slice(first, first + AT_ONCE)
        counts[part] = tree.query_ball_point(looks[part], reach, return_length=True)
    return counts


def _unlike(images: NDArray[np.int64], thumbs: NDArray[np.float32]) -> int:
    """How many of some images, up to `FEWEST`, are unlike each other."""
    unlike = list[int]()
    for image in images.tolist():
        if all(float(thumbs[image] @ thumbs[other]) < ALIKE for other in unlike):
            unlike.append(image)
            if len(unlike) >= FEWEST:
                break
    return len(unlike)
