"""A square of another image."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Pairing
from attentive_lens.plan.recipe import Paste


class PasteChange(Pairing):
    """Wholly inside the image, anywhere; the share is the area really covered (Yun 2019, section 3.1)."""

    def apply(
        self, step: Paste, random: np.random.Generator, image: NDArray[np.float32], partner: NDArray[np.float32]
    ) -> float:
        """In place."""
        rows, columns = image.shape[:2]
        side = math.sqrt(random.uniform(*step.between))
        height, width = round(side * rows), round(side * columns)
        top, left = int(random.integers(rows - height + 1)), int(random.integers(columns - width + 1))
        where = (slice(top, top + height), slice(left, left + width))
        image[where] = partner[where]
        return float(height * width / (rows * columns))
