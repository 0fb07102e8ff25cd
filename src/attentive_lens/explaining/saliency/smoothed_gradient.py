"""The gradient, averaged over noisy copies."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.probe import Asked, Probe
from attentive_lens.explaining.saliency.base import MapMethod, paired
from attentive_lens.plan.chance import chance

DRAWS = 16
NOISE = 0.1
"""Deviation of the noise, as a part of the image's own range."""


class SmoothedGradient(MapMethod):
    """|mean gradient over noisy copies|, max over channels (Smilkov 2017, «SmoothGrad», section 2).

    Notes
    -----
    Units of the number per unit of prepared level. The noise is the same for the same image at every call.
    """

    label = "smoothed gradient"
    shows = "Where small changes move the score, averaged over noisy copies of the image."
    misleads = "Noise the network never met may show a part of the image that it does not use."
    cost = f"{DRAWS} passes each way"

    def maps(self, probe: Probe, image: Array, asked: Asked) -> NDArray[np.float32]:
        """See `MapMethod.maps`."""
        width = NOISE * float(image.max() - image.min())
        noise = chance(0, "smoothed gradient").standard_normal((DRAWS, *image.shape), np.float32)
        copies, seeds = paired(image + width * noise.astype(image.dtype), asked)
        grads = probe.gradients(copies, seeds, asked.of).reshape(len(asked.seeds), DRAWS, *image.shape)
        return np.abs(grads.mean(axis=1)).max(axis=3).astype(np.float32)
