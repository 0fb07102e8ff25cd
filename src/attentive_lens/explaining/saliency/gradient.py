"""The plain gradient."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency.base import MapMethod, image_gradients


class Gradient(MapMethod):
    """How much the number changes for a small change of each pixel: max over channels of |∂number/∂pixel|.

    Notes
    -----
    Units of the number per unit of prepared level. Source: Simonyan 2013, «Deep inside convolutional networks»,
    section 3. Noisy; it shows what the answer is sensitive to, not what it rests on, and vanishes where the network is
    saturated.
    """

    def maps(self, probe: Probe, image: Array, targets: Targets) -> NDArray[np.float32]:
        """See `MapMethod.maps`."""
        return np.abs(self.parts(image_gradients(probe, image, targets))).max(axis=3).astype(np.float32)
