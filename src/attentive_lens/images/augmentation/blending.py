"""Images of a batch mixed with each other, and their labels as much."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Pairing
from attentive_lens.plan.augmentation import Blend, PatchBlend


class BlendChange(Pairing):
    """(1 − share) · image + share · partner (Zhang 2018, eq. 1), the share drawn from the step's range."""

    def apply(
        self, step: Blend, random: np.random.Generator, image: NDArray[np.float32], partner: NDArray[np.float32]
    ) -> float:
        """In place."""
        share = random.uniform(*step.range)
        image += np.float32(share) * (partner - image)
        return share


class PatchBlendChange(Pairing):
    """Wholly inside the image, anywhere; the share is the area really covered (Yun 2019, section 3.1)."""

    def apply(
        self, step: PatchBlend, random: np.random.Generator, image: NDArray[np.float32], partner: NDArray[np.float32]
    ) -> float:
        """In place."""
        rows, columns = image.shape[:2]
        side = math.sqrt(random.uniform(*step.range))
        height, width = round(side * rows), round(side * columns)
        top, left = int(random.integers(rows - height + 1)), int(random.integers(columns - width + 1))
        where = (slice(top, top + height), slice(left, left + width))
        image[where] = partner[where]
        return float(height * width / (rows * columns))
