"""Tilting away from the viewer."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Geometric
from attentive_lens.plan.recipe import Perspective


class PerspectiveChange(Geometric):
    """Each axis drawn by itself."""

    def matrix(self, step: Perspective, random: np.random.Generator, side: int) -> NDArray[np.float64]:
        """A projective map: the divisor grows linearly from the middle to an edge."""
        across, down = random.uniform(*step.between), random.uniform(*step.between)
        return np.array([[1, 0, 0], [0, 1, 0], [across / (side / 2), down / (side / 2), 1]])
