"""Lighter and darker."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Tonal
from attentive_lens.images.augmentation.compiled import stretch
from attentive_lens.plan.recipe import Brightness


class BrightnessChange(Tonal):
    """All channels times one factor."""

    def apply(self, step: Brightness, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place, cut off at 1."""
        stretch(image, 0.0, random.uniform(*step.between))
