"""A random part, brought back to the whole size."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Geometric
from attentive_lens.plan.recipe import Crop


class CropChange(Geometric):
    """Its area and aspect are drawn, then its place, all of it inside the image."""

    def matrix(self, step: Crop, random: np.random.Generator, side: int) -> NDArray[np.float64]:
        """A scaling of each axis and a shift."""
        area, aspect = random.uniform(*step.between), random.uniform(*step.aspect)
        wide, tall = min(1.0, math.sqrt(area * aspect)), min(1.0, math.sqrt(area / aspect))
        across, down = random.uniform(-0.5, 0.5) * (1 - wide) * side, random.uniform(-0.5, 0.5) * (1 - tall) * side
        return np.array([[wide, 0, across], [0, tall, down], [0, 0, 1]])
