"""Whether a model goes by something at one place: covering it, and putting it into images of other classes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.predicting import Predictor

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


def tried(
    predictor: Predictor,
    carriers: NDArray[np.uint8],
    others: NDArray[np.uint8],
    truth: NDArray[np.int64],
    label: int,
    spot: tuple[float, float, float],
) -> Trial | None:
    """Cover a place of some images of a class, and put it into images of other classes.

    Parameters
    ----------
    predictor : Predictor
        The model that is asked.
    carriers : ndarray, N×S×S×C uint8
        Images of the class that have something there.
    others : ndarray, M×S×S×C uint8
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
    carriers = carriers[_said(predictor, carriers) == label]
    others = others[_said(predictor, others) == truth]
    if min(len(carriers), len(others)) < 5:
        return None
    covered, pasted = [], []
    row, column, side = spot
    for place in (_square(carriers.shape[1], row, column, side), _square(carriers.shape[1], row, 1 - column, side)):
        hidden = carriers.copy()
        hidden[:, place[0], place[1]] = carriers.mean(axis=(1, 2), keepdims=True).astype(np.uint8)
        covered.append(float((_said(predictor, hidden) != label).mean()))
        marked = others.copy()
        marked[:, place[0], place[1]] = carriers[np.arange(len(others)) % len(carriers)][:, place[0], place[1]]
        pasted.append(float((_said(predictor, marked) == label).mean()))
    return Trial(covered[0], covered[1], pasted[0], pasted[1], len(carriers), len(others))


def _square(size: int, row: float, column: float, side: float) -> tuple[slice, slice]:
    width = max(1, round(side * size))
    starts = [min(max(0, round(at * size - width / 2)), size - width) for at in (row, column)]
    return slice(starts[0], starts[0] + width), slice(starts[1], starts[1] + width)


def _said(predictor: Predictor, images: NDArray[np.uint8]) -> NDArray[np.intp]:
    if not len(images):
        return np.zeros(0, np.intp)
    return predictor.said(predictor.scores(predictor.prepare(images)))
