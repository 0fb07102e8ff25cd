"""More fine detail."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter

from attentive_lens.images.augmentation.base import Tonal
from attentive_lens.plan.recipe import Sharpen


class SharpenChange(Tonal):
    """The difference from a blur of one pixel, added once more."""

    def apply(self, step: Sharpen, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place, cut off at 0 and 1."""
        amount = np.float32(random.uniform(*step.between))
        soft = gaussian_filter(image, (1, 1, 0), mode="nearest")
        image += amount * (image - soft)
        np.clip(image, 0, 1, out=image)
