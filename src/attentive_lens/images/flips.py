"""Whether a mirrored image of one class looks like another: then training on mirrored ones would teach the wrong."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.pixel_format import PixelArray

NEIGHBOURS = 5
SURE, TURNED, STAYED = 0.6, 0.5, 0.25
"""Parts of a class's images: right as they are, at least; of one other class when mirrored, at least; of their own
class then, at most. Set on drawn shapes that are each other's mirror images, and on shapes that are their own."""
FEWEST = 8
"""Images of a class below which nothing is said of it."""


@dataclass(frozen=True)
class Turned:
    """Mirrored images of a class that look like another one: names of both, and what part of them does."""

    name: str
    other: str
    part: float


def turned_by_flip(images: PixelArray, labels: NDArray[np.int64], classes: Sequence[str]) -> tuple[Turned, ...]:
    """Classes whose images, mirrored left to right, are most like images of one other class.

    Every image is compared with all others, brightness and contrast put aside; the nearest five vote. Classes that
    this cannot tell apart as they are say nothing. It looks at plain pixels, so a thing that stands anywhere in its
    picture is not told; nothing is claimed about what it does not name.

    Parameters
    ----------
    images : ndarray, N×H×W×C uint8
        Small ones, 16 pixels or so.
    labels : ndarray, N int64
        Class numbers.
    classes : sequence of str
        Names, K.
    """
    if len(images) < 2 * FEWEST:
        return ()
    plain, mirrored = _unit(images), _unit(images[:, :, ::-1])
    result = []
    as_they_are, as_mirrored = (_votes(rows, plain, labels, len(classes)) for rows in (plain, mirrored))
    for number in np.unique(labels):
        own = labels == number
        if own.sum() < FEWEST or (as_they_are[own] == number).mean() < SURE:
            continue
        shares = np.bincount(as_mirrored[own], minlength=len(classes)) / own.sum()
        stayed, shares[number] = shares[number], 0.0
        other = int(shares.argmax())
        if shares[other] >= TURNED and stayed <= STAYED:
            result.append(Turned(classes[int(number)], classes[other], float(shares[other])))
    return tuple(result)


def _unit(images: PixelArray) -> NDArray[np.float32]:
    """Rows of mean 0 and length 1."""
    rows = images.reshape(len(images), -1).astype(np.float32)
    rows = rows - rows.mean(axis=1, keepdims=True)
    return np.asarray(rows / np.maximum(np.linalg.norm(rows, axis=1, keepdims=True), 1e-6), np.float32)


def _votes(
    rows: NDArray[np.float32], known: NDArray[np.float32], labels: NDArray[np.int64], classes: int
) -> NDArray[np.int64]:
    """The class that most of the nearest images have, none of them the image itself."""
    likeness = rows @ known.T
    np.fill_diagonal(likeness, -np.inf)
    nearest = np.argpartition(-likeness, min(NEIGHBOURS, len(known) - 1) - 1, axis=1)[:, :NEIGHBOURS]
    votes = np.zeros((len(rows), classes), np.int64)
    np.add.at(votes, (np.repeat(np.arange(len(rows)), nearest.shape[1]), labels[nearest].reshape(-1)), 1)
    return np.asarray(votes.argmax(axis=1), np.int64)
