"""Pulled about like rubber."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import zoom

from attentive_lens.images.augmentation.base import Tonal
from attentive_lens.images.augmentation.compiled import displace
from attentive_lens.plan.recipe import Elastic

GRID = 5
"""Places on a side where a pull is drawn."""


class ElasticChange(Tonal):
    """Pulls drawn on a coarse grid of 5×5 and smoothed between (after Simard 2003, section 2)."""

    def apply(self, step: Elastic, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place; the border repeats."""
        strength = random.uniform(*step.between)
        pulls = random.standard_normal((2, GRID, GRID)) * strength
        rows, columns = image.shape[:2]
        zoomed = [zoom(pull, (rows / GRID, columns / GRID), order=1, grid_mode=True, mode="nearest") for pull in pulls]
        out = np.empty_like(image)
        displace(image, zoomed[0].astype(np.float32), zoomed[1].astype(np.float32), out)
        image[...] = out
