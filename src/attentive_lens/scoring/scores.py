"""Accuracy, loss, confusion matrix and the wrong images of one set."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Answer:
    """What was said of one image: its number in the catalogue, said and true class, probability of said."""

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
    classes : tuple of str
        Names by class number.
    loss : float
        Mean loss, of the function the model was trained by, without label smoothing and class weights.
    loss_function : str
        Its name.
    answers : tuple of Answer
        Every image's, in the set's order.
    """

    on: str
    classes: tuple[str, ...]
    loss: float
    loss_function: str
    answers: tuple[Answer, ...]

    @property
    def accuracy(self) -> float:
        """Part of the images answered rightly, 0–1."""
        return sum(a.said == a.true for a in self.answers) / len(self.answers)

    @property
    def confusion(self) -> NDArray[np.int64]:
        """Classes×classes: row true, column said."""
        matrix = np.zeros((len(self.classes), len(self.classes)), np.int64)
        for answer in self.answers:
            matrix[answer.true, answer.said] += 1
        return matrix

    @property
    def per_class(self) -> list[float | None]:
        """Part of each class's images answered rightly; None for a class with no images."""
        matrix = self.confusion
        totals = matrix.sum(axis=1)
        return [float(matrix[k, k] / n) if n else None for k, n in enumerate(totals.tolist())]

    @property
    def wrong(self) -> list[Answer]:
        """The images answered wrongly, the most confident first."""
        return sorted((a for a in self.answers if a.said != a.true), key=lambda a: (-a.probability, a.image))

    def as_dict(self) -> dict[str, Any]:
        """As JSON, answers included."""
        return {
            "on": self.on,
            "images": len(self.answers),
            "accuracy": self.accuracy,
            "loss": self.loss,
            "loss_function": self.loss_function,
            "classes": list(self.classes),
            "per_class": self.per_class,
            "confusion": self.confusion.tolist(),
            "answers": [[a.image, a.said, a.true, a.probability] for a in self.answers],
        }

    @classmethod
    def from_dict(cls, table: dict[str, Any]) -> Scores:
        """From `as_dict`'s table."""
        answers = tuple(Answer(int(i), int(s), int(t), float(p)) for i, s, t, p in table["answers"])
        loss, function = float(table["loss"]), str(table["loss_function"])
        return cls(str(table["on"]), tuple(table["classes"]), loss, function, answers)


def judge(
    on: str,
    classes: Sequence[str],
    images: Sequence[int],
    true: NDArray[np.int64],
    probabilities: NDArray[np.floating[Any]],
    losses: NDArray[np.floating[Any]],
    loss_function: str,
) -> Scores:
    """Scores from probabilities and losses.

    Parameters
    ----------
    on : str
        Name of the set.
    classes : sequence of str
        Names by class number, K.
    images : sequence of int
        Numbers in the catalogue, N.
    true : ndarray, N int64
        True classes.
    probabilities : ndarray, N×K
        Of every class, rows summing to 1.
    losses : ndarray, N
        Of every image, by the function named.
    loss_function : str
        What the model was trained by.
    """
    said = probabilities.argmax(axis=1)
    answers = tuple(
        Answer(int(i), int(s), int(t), float(p))
        for i, s, t, p in zip(images, said, true, probabilities.max(axis=1), strict=True)
    )
    return Scores(on, tuple(classes), float(losses.mean(dtype=np.float64)), loss_function, answers)
