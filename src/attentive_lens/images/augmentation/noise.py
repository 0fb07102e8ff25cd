"""A camera’s noise."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Tonal
from attentive_lens.plan.recipe import Noise


class NoiseChange(Tonal):
    """Normal, each pixel and channel by itself."""

    def apply(self, step: Noise, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place, cut off at 0 and 1."""
        width = np.float32(random.uniform(*step.between))
        image += random.standard_normal(image.shape, np.float32) * width
        np.clip(image, 0, 1, out=image)
