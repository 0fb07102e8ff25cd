"""The gradient, averaged over noisy copies."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.random import random_generator
from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency.base import MapMethod, paired

DRAWS = 16
NOISE = 0.1
"""Deviation of the noise, as a part of the image's own range."""


class SmoothedGradient(MapMethod):
    """|mean gradient over noisy copies|, max over channels (Smilkov 2017, «SmoothGrad», section 2).

    Notes
    -----
    Units of the number per unit of prepared level. The noise is the same for the same image at every call.
    """

    def maps(self, probe: Probe, image: Array, targets: Targets) -> NDArray[np.float32]:
        """See `MapMethod.maps`."""
        width = NOISE * float(image.max() - image.min())
        noise = random_generator(0, "smoothed gradient").standard_normal((DRAWS, *image.shape), np.float32)
        copies, weights = paired(image + width * noise.astype(image.dtype), targets)
        grads = probe.gradients(copies, weights, targets.of).reshape(len(targets.weights), DRAWS, *image.shape)
        return np.abs(self.parts(grads.mean(axis=1))).max(axis=3).astype(np.float32)
