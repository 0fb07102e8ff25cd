"""Whether a model goes by something at one place: covering it, and putting it into images of other classes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import paced
from attentive_lens.engine.arrays import Array
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.predicting import Predictor

AT_ONCE = 16

MENDS = 0.25
"""Part of the mistakes, more than at the mirrored place, that covering a place must mend for it to be their cause."""
TURNS = 0.2
"""Part of the answers, more than the mirrored place turns, from which a model goes by a place."""


@dataclass(frozen=True)
class Trial:
    """What became of right answers.

    Attributes
    ----------
    covered, covered_elsewhere : float
        Part of the images with the mark that get another answer once its place, or the mirrored one, is covered.
    pasted, pasted_elsewhere : float
        Part of other classes' images that are said to be of the class once its place, or the mirrored one, is put
        into them.
    images, others : int
        How many were tried.
    """

    covered: float
    covered_elsewhere: float
    pasted: float
    pasted_elsewhere: float
    images: int
    others: int

    @property
    def decides(self) -> bool:
        """Whether the model goes by the place, far more than by the mirrored one."""
        pasted, covered = self.pasted - self.pasted_elsewhere, self.covered - self.covered_elsewhere
        return max(pasted, covered) >= TURNS


@dataclass(frozen=True)
class CoverTrial:
    """What became of mistakes, and of right answers, once a place was covered in all of them.

    Attributes
    ----------
    mended, mended_elsewhere : float
        Part of the mistakes answered rightly then; with the mirrored place covered in its stead.
    broken : float
        Part of the right answers that were right no more.
    """

    mended: float
    mended_elsewhere: float
    broken: float

    @property
    def causes(self) -> bool:
        """Whether the place is what the mistakes come from, far more than the mirrored one."""
        return self.mended - self.mended_elsewhere >= MENDS


def cover_tried(
    predictor: Predictor,
    mistakes: PixelArray,
    true: NDArray[np.int64],
    right: PixelArray,
    right_true: NDArray[np.int64],
    spot: tuple[float, float, float],
) -> CoverTrial:
    """Cover a place in images that are answered wrongly, and in images that are answered rightly.

    Parameters
    ----------
    predictor : Predictor
        The model that is asked.
    mistakes, right : ndarray, N×H×W×C and M×H×W×C uint8
        Images answered wrongly and rightly.
    true, right_true : ndarray, N and M int64
        Their classes.
    spot : tuple of float
        Row and column of the middle and side of the square, parts of the image's side.
    """
    row, column, side = spot
    places = [_square(mistakes.shape[1:3], row, at, side) for at in (column, 1 - column)]
    mended = [float((predicted_of(predictor, _covered(mistakes, place)) == true).mean()) for place in places]
    broken = float((predicted_of(predictor, _covered(right, places[0])) != right_true).mean()) if len(right) else 0.0
    return CoverTrial(mended[0], mended[1], broken)


def _covered(images: PixelArray, place: tuple[slice, slice]) -> PixelArray:
    """Images with a square in their own mean colour."""
    hidden = images.copy()
    hidden[:, place[0], place[1]] = images.mean(axis=(1, 2), keepdims=True).astype(images.dtype)
    return hidden


def tried(
    predictor: Predictor,
    carriers: PixelArray,
    others: PixelArray,
    truth: NDArray[np.int64],
    label: int,
    spot: tuple[float, float, float],
) -> Trial | None:
    """Cover a place of some images of a class, and put it into images of other classes.

    Parameters
    ----------
    predictor : Predictor
        The model that is asked.
    carriers : ndarray, N×H×W×C uint8
        Images of the class that have something there.
    others : ndarray, M×H×W×C uint8
        Images of other classes.
    truth : ndarray, M int64
        Their classes.
    label : int
        The class.
    spot : tuple of float
        Row and column of the middle and side of the square, parts of the image's side.

    Returns
    -------
    Trial or None
        None where the model answers too few of them rightly to tell.
    """
    carriers = carriers[predicted_of(predictor, carriers) == label]
    others = others[predicted_of(predictor, others) == truth]
    if min(len(carriers), len(others)) < 5:
        return None
    covered, pasted = [], []
    row, column, side = spot
    for place in (_square(carriers.shape[1:3], row, at, side) for at in (column, 1 - column)):
        covered.append(float((predicted_of(predictor, _covered(carriers, place)) != label).mean()))
        marked = others.copy()
        marked[:, place[0], place[1]] = carriers[np.arange(len(others)) % len(carriers)][:, place[0], place[1]]
        pasted.append(float((predicted_of(predictor, marked) == label).mean()))
    return Trial(covered[0], covered[1], pasted[0], pasted[1], len(carriers), len(others))


def _square(sides: tuple[int, ...], row: float, column: float, side: float) -> tuple[slice, slice]:
    """A square as it would be if the image were one."""
    spans = []
    for size, at in zip(sides, (row, column), strict=True):
        width = max(1, round(side * size))
        start = min(max(0, round(at * size - width / 2)), size - width)
        spans.append(slice(start, start + width))
    return spans[0], spans[1]


def predicted_of(predictor: Predictor, images: PixelArray) -> NDArray[np.intp]:
    """Classes that are said of images N×H×W×C uint8, a few at a time."""
    return predictor.predicted(scores_of(predictor, images))


def scores_of(predictor: Predictor, images: PixelArray) -> Array:
    """The classes' scores N×K of images N×H×W×C uint8, a few at a time."""
    starts = paced(range(0, len(images), AT_ONCE), 1)
    parts = [predictor.scores(predictor.prepare(images[k : k + AT_ONCE])) for k in starts]
    return np.concatenate(parts) if parts else np.zeros((0, len(predictor.classes)), np.float32)
