"""Luma, for the steps that change colours."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

WEIGHTS = np.array([0.299, 0.587, 0.114], np.float32)
"""Of red, green and blue (ITU-R BT.601)."""


def luma(image: NDArray[np.float32]) -> NDArray[np.float32]:
    """Luma of each pixel, H×W×1, of an image H×W×C; of a grey image the image itself."""
    return (image @ WEIGHTS)[:, :, None] if image.shape[2] == 3 else image.copy()
