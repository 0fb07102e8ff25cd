"""Stronger and paler colours."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Tonal
from attentive_lens.images.augmentation.colour import luma
from attentive_lens.plan.recipe import Saturation


class SaturationChange(Tonal):
    """About each pixel’s own luma; a grey image stays as it is."""

    def apply(self, step: Saturation, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place, cut off at 0 and 1."""
        factor = np.float32(random.uniform(*step.between))
        grey = luma(image)
        image -= grey
        image *= factor
        image += grey
        np.clip(image, 0, 1, out=image)
