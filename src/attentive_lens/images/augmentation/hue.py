"""Turning the colours."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Tonal
from attentive_lens.plan.recipe import Hue


class HueChange(Tonal):
    """A rotation of red, green and blue about the grey axis; a grey image stays as it is."""

    def apply(self, step: Hue, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place, cut off at 0 and 1."""
        angle = math.radians(random.uniform(*step.between))
        if image.shape[2] != 3:
            return
        c, s = math.cos(angle), math.sin(angle) / math.sqrt(3)
        third = (1 - c) / 3
        turn = np.array(
            [[c + third, third - s, third + s], [third + s, c + third, third - s], [third - s, third + s, c + third]],
            np.float32,
        )
        np.clip(image @ turn.T, 0, 1, out=image)
