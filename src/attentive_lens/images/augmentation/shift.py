"""Shifting along rows and columns."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Geometric
from attentive_lens.plan.recipe import Shift


class ShiftChange(Geometric):
    """Each axis drawn by itself."""

    def matrix(self, step: Shift, random: np.random.Generator, side: int) -> NDArray[np.float64]:
        """A translation, in pixels."""
        across, down = random.uniform(*step.between), random.uniform(*step.between)
        return np.array([[1, 0, -across * side], [0, 1, -down * side], [0, 0, 1]])
