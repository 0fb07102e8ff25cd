"""Whether a map can be believed: what deleting and restoring the pixels it marks does to the answer."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter, sobel, uniform_filter

from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.covering import filling
from attentive_lens.explaining.probe import Probe
from attentive_lens.plan.chance import chance

SHARES = np.linspace(0, 1, 13) ** 2
"""Parts of the pixels deleted or restored; closer together at the beginning, where maps differ."""
DRAWS = 8
"""Random maps that set the limits."""
LEAST = 0.02
"""A class below this probability has nothing to lose."""
SMOOTH = 5
"""Pixels over which a map is averaged before its pixels are put in order."""


@dataclass(frozen=True)
class Curves:
    """Areas under the curves of the target's probability, 0–1.

    Attributes
    ----------
    probability : float
        Of the untouched image.
    deletion, insertion : float
        For the map: small and large are good.
    deletion_random, insertion_random : float
        Mean for random maps.
    deletion_edges, insertion_edges : float
        For an edge filter, which knows nothing of the network.
    deletion_limit, insertion_limit : float
        The best of the random maps: what the map must pass.
    """

    probability: float
    deletion: float
    insertion: float
    deletion_random: float
    insertion_random: float
    deletion_edges: float
    insertion_edges: float
    deletion_limit: float
    insertion_limit: float

    @property
    def passed(self) -> bool | None:
        """Whether it passes both limits; None with nothing to lose."""
        if self.probability < LEAST:
            return None
        return self.deletion < self.deletion_limit and self.insertion > self.insertion_limit

    def as_dict(self) -> dict[str, Any]:
        """For a table."""
        return {**asdict(self), "passed": self.passed}


def curves(probe: Probe, image: Array, maps: NDArray[np.float32], targets: list[int]) -> list[Curves]:
    """Curves of the maps (T×H×W) of some classes of one prepared image H×W×C.

    Deleted pixels take the image's mean; restored ones are put back into the image out of focus. Petsiuk 2018,
    section 4.1. Random maps hang together over as many pixels as smoothed ones do.
    """
    height, width = image.shape[:2]
    grey = image.mean(axis=2)
    edges = np.hypot(sobel(grey, axis=0), sobel(grey, axis=1))
    noise = chance(0, "random maps").standard_normal((DRAWS, height, width))
    random = np.stack([gaussian_filter(own, SMOOTH / 2) for own in noise])
    common = [*random, edges]
    blurred = np.asarray(gaussian_filter(image, (height / 8, width / 8, 0)))
    variants = [_variants(image, blurred, map_) for map_ in (*common, *maps)]
    found = probe.probabilities(np.concatenate(variants)).reshape(len(variants), 2, len(SHARES), -1)
    areas = np.asarray(np.trapezoid(found, SHARES, axis=2))
    results = []
    for k, target in enumerate(targets):
        own = areas[len(common) + k, :, target]
        drawn, edge = areas[:DRAWS, :, target], areas[DRAWS, :, target]
        mean = drawn.mean(axis=0)
        results.append(
            Curves(
                float(found[0, 0, 0, target]),
                float(own[0]),
                float(own[1]),
                float(mean[0]),
                float(mean[1]),
                float(edge[0]),
                float(edge[1]),
                float(drawn[:, 0].min()),
                float(drawn[:, 1].max()),
            )
        )
    return results


def _variants(image: Array, blurred: Array, map_: NDArray[np.floating[Any]]) -> Array:
    """The image with more and more deleted, then the blurred one with more and more restored."""
    order = np.argsort(-uniform_filter(np.asarray(map_, np.float64), SMOOTH), axis=None, kind="stable")
    flat, soft = image.reshape(-1, image.shape[2]), blurred.reshape(-1, image.shape[2])
    out = np.empty((2, len(SHARES), *flat.shape), image.dtype)
    mean = filling(image).astype(image.dtype)
    for k, share in enumerate(SHARES):
        chosen = order[: round(share * len(order))]
        out[0, k], out[1, k] = flat, soft
        out[0, k, chosen] = mean
        out[1, k, chosen] = flat[chosen]
    return out.reshape(-1, *image.shape)
