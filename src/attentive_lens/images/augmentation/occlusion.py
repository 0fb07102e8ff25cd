"""Parts of the image covered."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Tonal
from attentive_lens.plan.augmentation import Erasing, MaskPlace


class ErasingChange(Tonal):
    """Anywhere in the image, whole or cut by its border, in the image’s mean colour."""

    def apply(self, step: Erasing, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place."""
        height, width = image.shape[:2]
        half = random.uniform(*step.range) * min(height, width) / 2
        row, column = random.uniform(0, height), random.uniform(0, width)
        top, bottom = max(0, round(row - half)), max(0, round(row + half))
        left, right = max(0, round(column - half)), max(0, round(column + half))
        image[top:bottom, left:right] = image.mean(axis=(0, 1))


class MaskPlaceChange(Tonal):
    """The same square in every image, in the mean colour of the image."""

    def apply(self, step: MaskPlace, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place."""
        rows, columns = image.shape[:2]
        top, bottom = (max(0, round((step.row + half * step.side) * rows)) for half in (-0.5, 0.5))
        left, right = (max(0, round((step.column + half * step.side) * columns)) for half in (-0.5, 0.5))
        image[top:bottom, left:right] = image.mean(axis=(0, 1))
