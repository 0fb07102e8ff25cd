"""The gradient times what stands at the pixel."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.network import Network
from attentive_lens.explaining.saliency.base import MapMethod, score_gradients


class GradientTimesInput(MapMethod):
    """What each pixel adds to the raw score, to first order: Σ over channels of pixel · ∂score/∂pixel.

    Notes
    -----
    Score units. Cost: one forward and one backward pass a class. Source: Shrikumar 2016, «Not just a black box»,
    section 2. The parts are counted from the training mean, level 0: a pixel of the mean colour adds nothing,
    whatever it means. For a network of ReLUs without biases the parts add up to the score.
    """

    label = "gradient × input"
    shows = "What each pixel adds to the score."
    misleads = "Counted from the mean colour: a pixel of that colour adds nothing, even where emptiness is the reason."
    signed = True

    def maps(self, network: Network, image: Array, classes: Sequence[int]) -> NDArray[np.float32]:
        """See `MapMethod.maps`."""
        return (score_gradients(network, image, classes) * image).sum(axis=3).astype(np.float32)
