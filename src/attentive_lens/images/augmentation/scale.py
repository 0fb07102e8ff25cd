"""Scaling about the centre."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Geometric
from attentive_lens.plan.recipe import Scale


class ScaleChange(Geometric):
    """Larger for a factor above 1."""

    def matrix(self, step: Scale, random: np.random.Generator, side: int) -> NDArray[np.float64]:
        """The inverse factor on both axes."""
        factor = random.uniform(*step.between)
        return np.diag([1 / factor, 1 / factor, 1.0])
