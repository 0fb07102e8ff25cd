"""Gradients summed along the way from nothing to the image."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter

from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency.base import MapMethod, paired

STEPS = 64
BASELINES = ("mean", "blurred", "darkest")
"""The training mean (level 0); the image itself, out of focus; every channel at its least in the image."""


class IntegratedGradients(MapMethod):
    """(image − baseline) · mean gradient along the straight way between them, Σ over channels.

    Notes
    -----
    Units of the number. The parts add up to the number's rise from baseline to image, up to the error of 64 steps
    (midpoints), which is measured. Source: Sundararajan 2017, «Axiomatic attribution», eq. 1 and 3.
    """

    def __init__(self, baseline: str = "mean") -> None:
        self.baseline = baseline

    def empty(self, image: Array) -> Array:
        """What the way starts from."""
        if self.baseline == "blurred":
            return np.asarray(gaussian_filter(image, (image.shape[0] / 8, image.shape[1] / 8, 0)))
        if self.baseline == "darkest":
            return np.broadcast_to(image.min(axis=(0, 1)), image.shape).copy()
        return np.zeros_like(image)

    def maps(self, probe: Probe, image: Array, targets: Targets) -> NDArray[np.float32]:
        """See `MapMethod.maps`."""
        empty = self.empty(image)
        at = ((np.arange(STEPS) + 0.5) / STEPS).astype(image.dtype)[:, None, None, None]
        copies, weights = paired(empty + at * (image - empty), targets)
        grads = probe.gradients(copies, weights, targets.of).reshape(len(targets.weights), STEPS, *image.shape)
        return (grads.mean(axis=1) * (image - empty)).sum(axis=3).astype(np.float32)

    def should_sum_to(self, probe: Probe, image: Array, targets: Targets) -> Array | None:
        """The number's rise from the baseline to the image."""
        ends = probe.values(np.stack([self.empty(image), image]), targets)
        return np.asarray(ends[1] - ends[0])
