"""Lighter and darker middle levels."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Tonal
from attentive_lens.plan.recipe import Gamma


class GammaChange(Tonal):
    """Levels raised to an exponent."""

    def apply(self, step: Gamma, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place."""
        np.power(image, np.float32(random.uniform(*step.between)), out=image)
