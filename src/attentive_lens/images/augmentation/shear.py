"""Slanting."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Geometric
from attentive_lens.plan.recipe import Shear


class ShearChange(Geometric):
    """Rows move sideways, the farther from the middle the more."""

    def matrix(self, step: Shear, random: np.random.Generator, side: int) -> NDArray[np.float64]:
        """A shear."""
        return np.array([[1, math.tan(math.radians(random.uniform(*step.between))), 0], [0, 1, 0], [0, 0, 1]])
