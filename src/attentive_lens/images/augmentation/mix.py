"""Two images laid over each other."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Pairing
from attentive_lens.plan.recipe import Mix


class MixChange(Pairing):
    """(1 − share) · image + share · partner (Zhang 2018, eq. 1), the share drawn from the step's range."""

    def apply(
        self, step: Mix, random: np.random.Generator, image: NDArray[np.float32], partner: NDArray[np.float32]
    ) -> float:
        """In place."""
        share = random.uniform(*step.between)
        image += np.float32(share) * (partner - image)
        return share
