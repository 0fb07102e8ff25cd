"""More and less contrast."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Tonal
from attentive_lens.images.augmentation.compiled import stretch
from attentive_lens.plan.recipe import Contrast


class ContrastChange(Tonal):
    """About the mean of the whole image."""

    def apply(self, step: Contrast, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place, cut off at 0 and 1."""
        stretch(image, float(image.sum()) / image.size, random.uniform(*step.between))
