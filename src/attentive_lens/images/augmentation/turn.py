"""Turning about the centre."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Geometric
from attentive_lens.plan.recipe import Turn


class TurnChange(Geometric):
    """Counter-clockwise for a positive angle."""

    def matrix(self, step: Turn, random: np.random.Generator, side: int) -> NDArray[np.float64]:
        """A rotation."""
        angle = math.radians(random.uniform(*step.between))
        c, s = math.cos(angle), math.sin(angle)
        return np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])
