"""The gradient times what stands at the pixel."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency.base import MapMethod, image_gradients


class GradientTimesInput(MapMethod):
    """What each pixel adds to the number, to first order: Σ over channels of pixel · ∂number/∂pixel.

    Notes
    -----
    Units of the number. Source: Shrikumar 2016, «Not just a black box», section 2. The parts are counted from the
    training mean, level 0: a pixel of the mean colour adds nothing, whatever it means. For a network of ReLUs without
    biases the parts add up to the score.
    """

    def maps(self, probe: Probe, image: Array, targets: Targets) -> NDArray[np.float32]:
        """See `MapMethod.maps`."""
        return self.parts(image_gradients(probe, image, targets) * image).sum(axis=3).astype(np.float32)
