"""Out of focus."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter

from attentive_lens.images.augmentation.base import Tonal
from attentive_lens.plan.recipe import Blur


class BlurChange(Tonal):
    """A Gaussian blur; the border repeats."""

    def apply(self, step: Blur, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place."""
        width = random.uniform(*step.between)
        if width > 0:
            image[...] = gaussian_filter(image, (width, width, 0), mode="nearest")
