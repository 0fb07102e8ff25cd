"""What a model answered to the images of one set, beside what is true."""

from __future__ import annotations

from dataclasses import dataclass, fields
from functools import cached_property

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Answer:
    """What was said of one image: its number in the catalogue, said and true class, answer for said."""

    image: int
    predicted: int
    true: int
    probability: float


@dataclass(frozen=True, eq=False)
class SetAnswers:
    """How a model did on one set, image by image.

    Attributes
    ----------
    on : str
        Name of the set.
    images : int
        How many count, N.
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
    confusion : ndarray, K×K int64
        Row true, column said.
    numbers, predicted, true : ndarray, N int64
        Every image's number in the catalogue, class predicted and true class, in the set's order.
    probabilities : ndarray, N×K float32
        Answers of every class, raw scores where the output function is none.
    losses : ndarray, N float32
        Of every image.
    groups : ndarray, N int64
        One number for images that belong together, and may be answered alike.
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
    confusion: NDArray[np.int64]
    numbers: NDArray[np.int64]
    predicted: NDArray[np.int64]
    true: NDArray[np.int64]
    probabilities: NDArray[np.float32]
    losses: NDArray[np.float32]
    groups: NDArray[np.int64]

    def __eq__(self, other: object) -> bool:
        """The same answers to the same images, to the bit."""
        if not isinstance(other, SetAnswers):
            return NotImplemented
        pairs = ((getattr(self, each.name), getattr(other, each.name)) for each in fields(self))
        return all(np.array_equal(a, b) if isinstance(a, np.ndarray) else a == b for a, b in pairs)

    __hash__ = None  # type: ignore[assignment]

    @cached_property
    def answers(self) -> tuple[Answer, ...]:
        """Every image's, in the set's order."""
        sure = self.probabilities[np.arange(self.images), self.predicted]
        rows = zip(self.numbers.tolist(), self.predicted.tolist(), self.true.tolist(), sure.tolist(), strict=True)
        return tuple(Answer(*row) for row in rows)

    @cached_property
    def places(self) -> dict[int, int]:
        """The row of every image, by its number."""
        return {image: row for row, image in enumerate(self.numbers.tolist())}

    @cached_property
    def wrong(self) -> tuple[Answer, ...]:
        """The images answered wrongly, the most confident first."""
        wrong = (a for a in self.answers if a.predicted != a.true)
        return tuple(sorted(wrong, key=lambda a: (-a.probability, a.image)))
