"""Mirroring."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Geometric
from attentive_lens.plan.recipe import Mirror


class MirrorChange(Geometric):
    """Left to right, top to bottom, or one of the two."""

    def matrix(self, step: Mirror, random: np.random.Generator, side: int) -> NDArray[np.float64]:
        """A sign changed on one axis."""
        across = step.direction == "left-right" or (step.direction == "either" and random.random() < 0.5)
        return np.diag([-1.0, 1.0, 1.0] if across else [1.0, -1.0, 1.0])
