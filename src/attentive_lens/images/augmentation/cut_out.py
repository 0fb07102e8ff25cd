"""A covered square."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Tonal
from attentive_lens.plan.recipe import CutOut


class CutOutChange(Tonal):
    """Anywhere in the image, whole or cut by its border, in the image’s mean colour."""

    def apply(self, step: CutOut, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place."""
        height, width = image.shape[:2]
        half = random.uniform(*step.between) * min(height, width) / 2
        row, column = random.uniform(0, height), random.uniform(0, width)
        top, bottom = max(0, round(row - half)), max(0, round(row + half))
        left, right = max(0, round(column - half)), max(0, round(column + half))
        image[top:bottom, left:right] = image.mean(axis=(0, 1))
