"""Covering the image at random, again and again."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import zoom

from attentive_lens.core.jobs import breathe
from attentive_lens.core.random import random_generator
from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.covering import filling
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency.base import MapMethod

MASKS, GRID, KEPT = 400, 8, 0.5
AT_ONCE = 64
"""Masks laid on at a time."""


class RandomMasks(MapMethod):
    """How much higher the number is when the pixel is left than when it is not, over random soft masks.

    Notes
    -----
    Units of the number. 400 masks of 8×8 squares, each left with probability one half, moved at random and blended at
    their edges; covered pixels take the image's mean colour. Source: Petsiuk 2018, «RISE», eq. 6, less the mean number.
    The masks are the same at every call.
    """

    def maps(self, probe: Probe, image: Array, targets: Targets) -> NDArray[np.float32]:
        """See `MapMethod.maps`."""
        masks = _masks(*image.shape[:2]).astype(image.dtype)
        mean = filling(image).astype(image.dtype)
        parts = [masks[first : first + AT_ONCE, ..., None] for first in range(0, MASKS, AT_ONCE)]
        numbers = np.concatenate([probe.values(mean + part * (image - mean), targets) for part in parts])
        weighed = np.einsum("nt,nhw->thw", numbers, masks - masks.mean(axis=0))
        return (weighed / (MASKS * masks.var(axis=0) + 1e-9)).astype(np.float32)


def _masks(height: int, width: int) -> NDArray[np.float64]:
    random = random_generator(0, "random masks")
    grids = (random.random((MASKS, GRID + 1, GRID + 1)) < KEPT).astype(np.float64)
    tall, wide = -(-height // GRID), -(-width // GRID)
    masks = np.empty((MASKS, height, width))
    for k in range(MASKS):
        breathe()
        large = zoom(grids[k], (tall, wide), order=1, grid_mode=True, mode="nearest")
        r, c = int(random.integers(tall)), int(random.integers(wide))
        masks[k] = large[r : r + height, c : c + width]
    return masks
