"""Without colour."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Tonal
from attentive_lens.images.augmentation.colour import luma
from attentive_lens.plan.recipe import Grey


class GreyChange(Tonal):
    """Every channel becomes the luma."""

    def apply(self, step: Grey, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place."""
        image[...] = luma(image)
