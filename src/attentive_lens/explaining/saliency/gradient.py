"""The plain gradient."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.network import Network
from attentive_lens.explaining.saliency.base import MapMethod, score_gradients


class Gradient(MapMethod):
    """How much the raw score changes for a small change of each pixel: max over channels of |∂score/∂pixel|.

    Notes
    -----
    Score units per unit of prepared level. Cost: one forward and one backward pass a class. Source: Simonyan
    2013, «Deep inside convolutional networks», section 3. Noisy; it shows what the answer is sensitive to,
    not what it rests on, and vanishes where the network is saturated.
    """

    label = "gradient"
    shows = "Where a small change would move the score most."
    misleads = "It is noisy, and weak where the answer is so sure that small changes no longer matter."

    def maps(self, network: Network, image: Array, classes: Sequence[int]) -> NDArray[np.float32]:
        """See `MapMethod.maps`."""
        return np.abs(score_gradients(network, image, classes)).max(axis=3).astype(np.float32)
