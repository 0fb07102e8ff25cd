"""What every map method does and says of itself."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.network import Network
from attentive_lens.plan.network import IMAGE


class MapMethod(ABC):
    """Base of the methods.

    A method differentiates or changes the raw score of a class, before softmax, so that what speaks for one
    class is not mixed with what speaks against the others.
    """

    label: ClassVar[str] = ""
    """Its name in the trade, for a button."""
    shows: ClassVar[str] = ""
    """One sentence: what the map shows."""
    misleads: ClassVar[str] = ""
    """One sentence: when not to believe it."""
    signed: ClassVar[bool] = False
    """Whether values below zero mean «speaks against»."""

    @abstractmethod
    def maps(self, network: Network, image: Array, classes: Sequence[int]) -> NDArray[np.float32]:
        """Maps for several classes of one image.

        Parameters
        ----------
        network : Network
            Trained.
        image : ndarray, H×W×C
            Prepared as the network takes it.
        classes : sequence of int
            T class numbers.

        Returns
        -------
        ndarray, T×H×W float32
            In the unit the method's docstring gives; at least 0 unless ``signed``.
        """


def score_gradients(network: Network, image: Array, classes: Sequence[int]) -> Array:
    """Gradients of the raw scores of T classes by one prepared image H×W×C: T×H×W×C, in one pass each way."""
    route = network.route(image=True)
    trace = network.forward(np.repeat(image[None], len(classes), axis=0), route=route)
    seed = np.zeros_like(trace.outputs[network.answers])
    seed[np.arange(len(classes)), list(classes)] = 1
    grads, _ = network.backward(trace, {network.answers: seed}, route)
    return grads.get(IMAGE, np.zeros((len(classes), *image.shape), image.dtype))
