"""Made-up pictures for the tests of sources: leaves of two kinds, each image unlike all others."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

KINDS = ("broad", "narrow")


def leaves(count: int, height: int = 12, width: int = 12, channels: int = 3) -> NDArray[np.uint8]:
    """N×H×W×C uint8: an ellipse on ground of a colour of its own, no two images or axes alike."""
    random = np.random.default_rng(4)
    rows, columns = np.mgrid[0:height, 0:width]
    images = np.empty((count, height, width, channels), np.uint8)
    for k in range(count):
        narrow = 0.45 if k % 2 else 1.0
        down, across = (rows / height - 0.4) / 0.4, (columns / width - 0.55) / (0.4 * narrow)
        inside = down**2 + across**2
        ground = random.integers(120, 250, channels)
        leaf = random.integers(5, 100, channels)
        images[k] = np.where((inside < 1)[:, :, None], leaf, ground)
        images[k, 0, 0] = k % 250
    return images


def kinds(count: int) -> list[str]:
    """The kind of each."""
    return [KINDS[k % 2] for k in range(count)]
