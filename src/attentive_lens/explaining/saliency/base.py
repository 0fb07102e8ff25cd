"""What every map method does and says of itself."""

from __future__ import annotations

from abc import ABC, abstractmethod

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.methods import MapSettings
from attentive_lens.explaining.probe import Probe, Targets


class MapMethod(ABC):
    """Base of the methods: the arithmetic here, settings and what is said of them in ``explaining/methods``.

    What a map explains is a `Targets`: by default the score of a class, before the output function.

    Parameters
    ----------
    settings : MapSettings
        Of its kind.
    other : ndarray, H×W×C, optional
        The prepared image that its settings name.
    channel : int, optional
        The one channel of the image that its settings name.
    """

    def __init__(self, settings: MapSettings, other: Array | None = None, channel: int | None = None) -> None:
        self.settings, self.other, self.channel = settings, other, channel

    def parts(self, values: Array) -> Array:
        """Of values …×C by channel of the image, those of the channel that is asked for, …×1, or all."""
        return values if self.channel is None else values[..., self.channel : self.channel + 1]

    @abstractmethod
    def maps(self, probe: Probe, image: Array, targets: Targets) -> NDArray[np.float32]:
        """Maps of one image.

        Parameters
        ----------
        probe : Probe
            The trained network.
        image : ndarray, H×W×C
            Prepared as the network takes it.
        targets : Targets
            T numbers.

        Returns
        -------
        ndarray, T×H×W float32
            In the unit the method's docstring gives; at least 0 unless its settings say ``signed``.
        """

    def should_sum_to(self, probe: Probe, image: Array, targets: Targets) -> Array | None:
        """What the map of each number must add up to, T, where the method promises it; None where it does not."""
        del probe, image, targets
        return None


def image_gradients(probe: Probe, image: Array, targets: Targets) -> Array:
    """Gradients of T numbers by one image: T×H×W×C."""
    return probe.gradients(np.repeat(image[None], len(targets.weights), axis=0), targets.weights, targets.of)


def paired(images: Array, targets: Targets) -> tuple[Array, Array]:
    """Every image with every number: N·T images, number by number, and their weights."""
    count = len(targets.weights)
    return np.concatenate([images] * count), np.repeat(targets.weights, len(images), axis=0)
