"""A covered place."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Tonal
from attentive_lens.plan.recipe import Cover


class CoverChange(Tonal):
    """The same square in every image, in the mean colour of the image."""

    def apply(self, step: Cover, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place."""
        rows, columns = image.shape[:2]
        top, bottom = (max(0, round((step.row + half * step.side) * rows)) for half in (-0.5, 0.5))
        left, right = (max(0, round((step.column + half * step.side) * columns)) for half in (-0.5, 0.5))
        image[top:bottom, left:right] = image.mean(axis=(0, 1))
