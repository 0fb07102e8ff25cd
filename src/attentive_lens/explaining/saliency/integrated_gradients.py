"""Gradients summed along the way from nothing to the image."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter

from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.covering import filling
from attentive_lens.explaining.methods import BASELINES, IntegratedGradientsSettings, MapSettings
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency.base import MapMethod, paired

STEPS = 16
"""Midpoints on the way."""
SPREAD = 1 / 32
"""Standard deviation, a part of the side, over which each part is spread out; what they add up to stays."""


class IntegratedGradients(MapMethod):
    """(image − baseline) · mean gradient along the straight way between them, Σ over channels.

    Notes
    -----
    Units of the number. The parts add up to the number's rise from the baseline to the image, up to the error of the
    midpoints, which is measured. From the image out of focus, which is also what deletion leaves, maps pass the test of
    trust more often than from the mean colour. From a flat colour, what has that colour adds nothing. Source:
    Sundararajan 2017, «Axiomatic attribution», eq. 1 and 3.
    """

    def __init__(
        self, settings: MapSettings, other: Array | None = None, channel: int | None = None, spread: float = SPREAD
    ) -> None:
        super().__init__(settings, other, channel)
        self.baseline = settings.baseline if isinstance(settings, IntegratedGradientsSettings) else BASELINES[0]
        self.spread = spread

    def start(self, probe: Probe, image: Array) -> Array:
        """What the way starts from, H×W×C."""
        if self.other is not None:
            return np.asarray(self.other, image.dtype)
        if self.baseline == "blurred":
            return np.asarray(gaussian_filter(image, (image.shape[0] / 8, image.shape[1] / 8, 0)), image.dtype)
        if self.baseline == "black":
            return np.asarray(probe.predictor.prepare(np.zeros((1, *image.shape), np.uint8))[0], image.dtype)
        flat = {"own mean": filling(image), "training mean": 0.0, "darkest": image.min(axis=(0, 1))}[self.baseline]
        return np.broadcast_to(np.asarray(flat, image.dtype), image.shape)

    def maps(self, probe: Probe, image: Array, targets: Targets) -> NDArray[np.float32]:
        """See `MapMethod.maps`."""
        way = image - self.start(probe, image)
        at = ((np.arange(STEPS) + 0.5) / STEPS).astype(image.dtype)[:, None, None, None]
        copies, weights = paired((image - way) + at * way, targets)
        grads = probe.gradients(copies, weights, targets.of)
        grads = grads.reshape(len(targets.weights), STEPS, *image.shape).mean(axis=1)
        parts = self.parts(grads * way).sum(axis=3)
        width = self.spread * image.shape[0]
        return np.asarray(gaussian_filter(parts, (0, width, width)), np.float32)

    def should_sum_to(self, probe: Probe, image: Array, targets: Targets) -> Array | None:
        """The number's rise from the baseline to the image; all channels together make it."""
        if self.channel is not None:
            return None
        end, start = probe.values(np.stack([image, self.start(probe, image)]), targets)
        return np.asarray(end - start)
