"""What is told of drawings beside real images from their pixels alone."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Images = NDArray[np.float32]
AT_LIMIT = 0.01
"""How near to 0 or 1 a pixel is at its limit."""
LEAST = 1e-6
"""Distance of images below which they are one."""


@dataclass(frozen=True)
class Looks:
    """How some images look.

    Attributes
    ----------
    distance : float
        Between two of them: root mean square of pixels, mean over pairs; pairs of one class where classes are known.
    at_limit : float
        Part of the values that are nearly 0 or 1.
    grid : float
        How much steps between neighbouring pixels differ by whether their place is even or odd, from 0 to 1: the
        greater of both directions.
    """

    distance: float
    at_limit: float
    grid: float


def looks_of(images: Images, labels: NDArray[np.int64] | None = None) -> Looks:
    """Of images N×H×W×C, 0–1, and their classes N where these are known; all 0 of fewer than two images."""
    if len(images) < 2:
        return Looks(0.0, 0.0, 0.0)
    order = np.arange(len(images)) if labels is None else np.argsort(labels, kind="stable")
    first, second = order[:-1], order[1:]
    if labels is not None and (labels[first] == labels[second]).any():
        same = labels[first] == labels[second]
        first, second = first[same], second[same]
    gaps = (images[first] - images[second]).reshape(len(first), -1).astype(np.float64)
    distance = float(np.sqrt((gaps**2).mean(axis=1)).mean())
    limit = float(((images <= AT_LIMIT) | (images >= 1 - AT_LIMIT)).mean())
    return Looks(distance, limit, max(_grid(images), _grid(images.swapaxes(1, 2))))


def _grid(images: Images) -> float:
    """Along rows."""
    steps = np.abs(np.diff(images, axis=1)).mean(axis=(0, 2, 3), dtype=np.float64)
    even, odd = steps[::2], steps[1::2]
    if not len(odd) or even.mean() + odd.mean() < LEAST:
        return 0.0
    return float(abs(even.mean() - odd.mean()) / (even.mean() + odd.mean()))


def compared(drawn: Looks, real: Looks) -> dict[str, float]:
    """Variety of drawings in parts of real images' own, and what they have more than those at limits and as a grid."""
    return {
        "variety": drawn.distance / real.distance if real.distance > LEAST else 0.0,
        "at_limit": max(0.0, drawn.at_limit - real.at_limit),
        "grid": max(0.0, drawn.grid - real.grid),
    }
