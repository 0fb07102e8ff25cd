"""The three kinds of change: where pixels are, what they are, and with what they are mixed."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.errors import BadFile


class Augmentation(ABC):  # noqa: B024
    """Base of all changes; its three kinds below say what they do."""


class Geometric(Augmentation):
    """A change of places, as a matrix."""

    @abstractmethod
    def matrix(self, step: Any, random: np.random.Generator, sides: tuple[int, int]) -> NDArray[np.float64]:
        """3×3 matrix from places in the new image to places in the old: (across, down, 1), pixels from the centre.

        ``sides`` are the image's rows and columns.
        """


class Tonal(Augmentation):
    """A change of values."""

    @abstractmethod
    def apply(self, step: Any, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """Change H×W×C values in 0–1 in place; they stay within."""


class Lost(Tonal):
    """Stands for a change that cannot be made, and says why."""

    def __init__(self, error: BadFile) -> None:
        self.error = error

    def apply(self, step: Any, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """Raises it."""
        raise self.error


class Pairing(Augmentation):
    """A change made with another image of the batch, whose label then counts too."""

    @abstractmethod
    def apply(
        self, step: Any, random: np.random.Generator, image: NDArray[np.float32], partner: NDArray[np.float32]
    ) -> float:
        """Change H×W×C values in place by the partner's, and return the partner's share of the label, 0 to 0.5."""
