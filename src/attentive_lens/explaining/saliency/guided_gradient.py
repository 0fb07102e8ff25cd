"""The gradient through the parts that speak for the answer."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency.base import MapMethod


class GuidedGradient(MapMethod):
    """The gradient with everything negative stopped at every ReLU, max over channels (Springenberg 2015, section 3.4).

    Notes
    -----
    No unit: it is no gradient of anything. Adebayo 2018 shows that it hardly changes when the weights are drawn anew:
    look at its trust first.
    """

    def maps(self, probe: Probe, image: Array, targets: Targets) -> NDArray[np.float32]:
        """See `MapMethod.maps`."""
        copies = np.repeat(image[None], len(targets.weights), axis=0)
        gradients = probe.gradients(
            copies, targets.weights, targets.of, lambda grad, out: np.maximum(grad, 0) * (out > 0)
        )
        return np.abs(self.parts(gradients)).max(axis=3).astype(np.float32)
