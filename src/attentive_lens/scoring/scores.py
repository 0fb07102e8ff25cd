"""Accuracy, loss, confusion matrix and the wrong images of one set, with the measures that are taken of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.scoring.answers import SetAnswers
from attentive_lens.scoring.measures import Measures, fitted_temperature, measures_of


@dataclass(frozen=True, eq=False)
class Scores(SetAnswers):
    """Answers, and what is measured of them: taken once, where the answers are made.

    Attributes
    ----------
    measures : Measures
        See there.
    temperature : float or None
        By which raw scores would be divided for the set's loss to be least; see `measures.fitted_temperature`.
    """

    measures: Measures
    temperature: float | None


def scored(
    on: str,
    classes: Sequence[str],
    images: Sequence[int],
    true: NDArray[np.int64],
    predicted: NDArray[np.intp],
    answers: NDArray[np.floating[Any]],
    losses: NDArray[np.floating[Any]],
    loss_function: str,
    output: str = "softmax",
    unknown: int = 0,
    groups: NDArray[np.int64] | None = None,
) -> Scores:
    """Scores from answers and losses.

    Parameters
    ----------
    on : str
        Name of the set.
    classes : sequence of str
        Names by class number, K.
    images : sequence of int
        Numbers in the catalogue, N, at least one.
    true : ndarray, N int64
        True classes.
    predicted : ndarray, N int
        Classes said.
    answers : ndarray, N×K
        Of every class.
    losses : ndarray, N
        Of every image, by the function named.
    loss_function, output : str
        What the model was trained by, and what made the answers.
    unknown : int
        Images that do not count.
    groups : ndarray, N int64, optional
        One number for images that belong together; each is by itself if left out.
    """
    matrix = np.zeros((len(classes), len(classes)), np.int64)
    np.add.at(matrix, (true, predicted), 1)
    right, of = matrix.diagonal(), matrix.sum(axis=1)
    fields = (
        on,
        len(images),
        unknown,
        float((predicted == true).mean()),
        float(losses.mean(dtype=np.float64)),
        loss_function,
        output,
        tuple(classes),
        tuple(float(k / n) if n else None for k, n in zip(right.tolist(), of.tolist(), strict=True)),
        matrix,
        np.asarray(images, np.int64),
        np.asarray(predicted, np.int64),
        np.asarray(true, np.int64),
        np.asarray(answers, np.float32),
        np.asarray(losses, np.float32),
        np.arange(len(images)) if groups is None else groups,
    )
    of_set = SetAnswers(*fields)
    return Scores(*fields, measures_of(of_set), fitted_temperature(of_set))
