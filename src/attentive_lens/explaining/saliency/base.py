"""What every map method does and says of itself."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.probe import Asked, Probe


class MapMethod(ABC):
    """Base of the methods. What a map explains is an `Asked`: by default the raw score of a class."""

    label: ClassVar[str] = ""
    """Its name in the trade, for a list."""
    shows: ClassVar[str] = ""
    """One sentence: what the map shows."""
    misleads: ClassVar[str] = ""
    """One sentence: when not to believe it."""
    cost: ClassVar[str] = ""
    """What it costs, in passes through the network."""
    signed: ClassVar[bool] = False
    """Whether values below zero mean «speaks against»."""

    @abstractmethod
    def maps(self, probe: Probe, image: Array, asked: Asked) -> NDArray[np.float32]:
        """Maps of one image.

        Parameters
        ----------
        probe : Probe
            The trained network.
        image : ndarray, H×W×C
            Prepared as the network takes it.
        asked : Asked
            T numbers.

        Returns
        -------
        ndarray, T×H×W float32
            In the unit the method's docstring gives; at least 0 unless ``signed``.
        """

    def should_sum_to(self, probe: Probe, image: Array, asked: Asked) -> Array | None:
        """What the map of each number must add up to, T, where the method promises it; None where it does not."""
        del probe, image, asked
        return None


def image_gradients(probe: Probe, image: Array, asked: Asked) -> Array:
    """Gradients of T numbers by one image: T×H×W×C."""
    return probe.gradients(np.repeat(image[None], len(asked.seeds), axis=0), asked.seeds, asked.of)


def paired(images: Array, asked: Asked) -> tuple[Array, Array]:
    """Every image with every number: N·T images, number by number, and their seeds."""
    count = len(asked.seeds)
    return np.concatenate([images] * count), np.repeat(asked.seeds, len(images), axis=0)
