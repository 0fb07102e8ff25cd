"""Accuracy, loss, confusion matrix and the wrong images of one set."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Answer:
    """What was said of one image: its number in the catalogue, said and true class, answer for said."""

    image: int
    said: int
    true: int
    probability: float


@dataclass(frozen=True)
class Scores:
    """How a model did on one set.

    Attributes
    ----------
    on : str
        Name of the set.
    images : int
        How many count.
    unknown : int
        Images more, of classes that the model does not know.
    accuracy : float
        Part of the images answered rightly, 0–1.
    loss : float
        Mean loss, of the function the model was trained by, without label smoothing and class weights.
    loss_function, output : str
        Its name, and what makes answers of raw scores.
    classes : tuple of str
        Names by class number, K.
    per_class : tuple of float or None
        Part of each class's images answered rightly; None for a class with no images.
    confusion : tuple of tuples of int
        K×K: row true, column said.
    answers : tuple of Answer
        Every image's, in the set's order.
    probabilities : ndarray, N×K float32
        Answers of every class, raw scores where the output function is none.
    losses : ndarray, N float32
        Of every image.
    temperature : float or None
        By which raw scores would be divided for the set's loss to be least; see `measures.fitted_temperature`.
    """

    on: str
    images: int
    unknown: int
    accuracy: float
    loss: float
    loss_function: str
    output: str
    classes: tuple[str, ...]
    per_class: tuple[float | None, ...]
    confusion: tuple[tuple[int, ...], ...]
    answers: tuple[Answer, ...]
    probabilities: NDArray[np.float32] = field(compare=False)
    losses: NDArray[np.float32] = field(compare=False)
    temperature: float | None = None

    @property
    def wrong(self) -> list[Answer]:
        """The images answered wrongly, the most confident first."""
        return sorted((a for a in self.answers if a.said != a.true), key=lambda a: (-a.probability, a.image))


def scored(
    on: str,
    classes: Sequence[str],
    images: Sequence[int],
    true: NDArray[np.int64],
    said: NDArray[np.intp],
    answers: NDArray[np.floating[Any]],
    losses: NDArray[np.floating[Any]],
    loss_function: str,
    output: str = "softmax",
    unknown: int = 0,
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
    said : ndarray, N int
        Classes said.
    answers : ndarray, N×K
        Of every class.
    losses : ndarray, N
        Of every image, by the function named.
    loss_function, output : str
        What the model was trained by, and what made the answers.
    unknown : int
        Images that do not count.
    """
    matrix = np.zeros((len(classes), len(classes)), np.int64)
    np.add.at(matrix, (true, said), 1)
    rows = zip(images, said, true, answers[np.arange(len(said)), said], strict=True)
    return Scores(
        on,
        len(images),
        unknown,
        float((said == true).mean()),
        float(losses.mean(dtype=np.float64)),
        loss_function,
        output,
        tuple(classes),
        tuple(float(matrix[k, k] / n) if n else None for k, n in enumerate(matrix.sum(axis=1).tolist())),
        tuple(tuple(row) for row in matrix.tolist()),
        tuple(Answer(int(i), int(s), int(t), float(p)) for i, s, t, p in rows),
        np.asarray(answers, np.float32),
        np.asarray(losses, np.float32),
    )
