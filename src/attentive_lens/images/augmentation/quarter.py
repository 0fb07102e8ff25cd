"""Quarter turns."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Geometric
from attentive_lens.plan.recipe import Quarter


class QuarterChange(Geometric):
    """One, two or three, each as likely."""

    def matrix(self, step: Quarter, random: np.random.Generator, side: int) -> NDArray[np.float64]:
        """A rotation without resampling: entries are 0 and ±1."""
        c, s = ((0.0, 1.0), (-1.0, 0.0), (0.0, -1.0))[int(random.integers(3))]
        return np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])
