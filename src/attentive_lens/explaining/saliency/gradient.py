"""The plain gradient."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.network import Network
from attentive_lens.explaining.saliency.base import MapMethod


class Gradient(MapMethod):
    """How much the raw score changes for a small change of each pixel: max over channels of |∂score/∂pixel|.

    Notes
    -----
    Score units per unit of prepared level. Cost: one forward and one backward pass a class. Source: Simonyan
    2013, «Deep inside convolutional networks», section 3. Noisy; it shows what the answer is sensitive to,
    not what it rests on, and vanishes where the network is saturated.
    """

    shows = "Which pixels the score would change most with, if they changed a little."
    misleads = "It is noisy, and weak where the answer is so sure that small changes no longer matter."

    def maps(self, network: Network, image: Array, classes: Sequence[int]) -> NDArray[np.float32]:
        """See `MapMethod.maps`."""
        route = network.route(image=True)
        trace = network.forward(np.repeat(image[None], len(classes), axis=0), route=route)
        seed = np.zeros_like(trace.outputs[network.answers])
        seed[np.arange(len(classes)), list(classes)] = 1
        grad, _ = network.backward(trace, {network.answers: seed}, route)
        if grad is None:
            return np.zeros((len(classes), *image.shape[:2]), np.float32)
        return np.abs(grad).max(axis=3).astype(np.float32)
