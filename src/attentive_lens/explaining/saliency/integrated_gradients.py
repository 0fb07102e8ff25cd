"""Gradients summed along the way from nothing to the image."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter

from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.covering import filling
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency.base import MapMethod, paired

STEPS = 16
"""Midpoints on the way from each baseline."""
BASELINES = ("own mean", "blurred", "training mean", "darkest")
"""The image's mean colour, as where something is covered; the image itself, out of focus; level 0; every channel at its
least in the image."""


class IntegratedGradients(MapMethod):
    """(image − baseline) · mean gradient along the straight way between them, Σ over channels, mean over baselines.

    Parameters
    ----------
    baselines : tuple of str
        Of `BASELINES`. From the image out of focus, which is also what deletion leaves, maps pass the test of trust
        more often than from the mean colour, or from both. From a flat colour, what has that colour adds nothing.
    start : ndarray, H×W×C, optional
        A prepared image that the way starts from in their stead.
    spread : float
        Standard deviation, a part of the side, over which each part is spread out; what they add up to stays.

    Notes
    -----
    Units of the number. The parts add up to the number's rise from the baselines to the image, up to the error of the
    midpoints, which is measured. Source: Sundararajan 2017, «Axiomatic attribution», eq. 1 and 3; several baselines:
    Erion 2021, «Expected gradients», eq. 2.
    """

    def __init__(
        self, baselines: tuple[str, ...] = ("blurred",), spread: float = 1 / 32, start: Array | None = None
    ) -> None:
        self.baselines = baselines
        self.spread = spread
        self.start = start

    def starts(self, image: Array) -> Array:
        """What the ways start from, B×H×W×C."""
        if self.start is not None:
            return np.asarray(self.start[None], image.dtype)
        flat = {"own mean": filling(image), "training mean": 0.0, "darkest": image.min(axis=(0, 1))}
        starts = np.empty((len(self.baselines), *image.shape), image.dtype)
        for start, name in zip(starts, self.baselines, strict=True):
            soft = (image.shape[0] / 8, image.shape[1] / 8, 0)
            start[...] = gaussian_filter(image, soft) if name == "blurred" else flat[name]
        return starts

    def maps(self, probe: Probe, image: Array, targets: Targets) -> NDArray[np.float32]:
        """See `MapMethod.maps`."""
        starts = self.starts(image)
        at = ((np.arange(STEPS) + 0.5) / STEPS).astype(image.dtype)[:, None, None, None]
        way = image - starts[:, None]
        copies, weights = paired((starts[:, None] + at * way).reshape(-1, *image.shape), targets)
        grads = probe.gradients(copies, weights, targets.of)
        grads = grads.reshape(len(targets.weights), len(starts), STEPS, *image.shape).mean(axis=2)
        parts = (grads * way[:, 0]).mean(axis=1).sum(axis=3)
        width = self.spread * image.shape[0]
        return np.asarray(gaussian_filter(parts, (0, width, width)), np.float32)

    def should_sum_to(self, probe: Probe, image: Array, targets: Targets) -> Array | None:
        """The number's rise from the baselines to the image."""
        ends = probe.values(np.concatenate([image[None], self.starts(image)]), targets)
        return np.asarray(ends[0] - ends[1:].mean(axis=0))
