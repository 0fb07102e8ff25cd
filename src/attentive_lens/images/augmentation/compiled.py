"""Resampling an image through a matrix, in one compiled pass."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray


@njit(cache=True, nogil=True)
def warp(image: NDArray[np.float32], matrix: NDArray[np.float32], out: NDArray[np.float32]) -> None:
    """Fill ``out`` (S×S×C) from ``image`` by bilinear interpolation; outside it, its border is repeated.

    ``matrix`` (3×3) leads from places in ``out`` to places in ``image``, both counted from the centre.
    """
    rows, columns, channels = image.shape
    middle_r, middle_c = (rows - 1) / 2, (columns - 1) / 2
    for r in range(rows):
        for c in range(columns):
            across, down = c - middle_c, r - middle_r
            x = matrix[0, 0] * across + matrix[0, 1] * down + matrix[0, 2] + middle_c
            y = matrix[1, 0] * across + matrix[1, 1] * down + matrix[1, 2] + middle_r
            x = min(max(x, 0.0), columns - 1.0)
            y = min(max(y, 0.0), rows - 1.0)
            left, top = int(x), int(y)
            right, bottom = min(left + 1, columns - 1), min(top + 1, rows - 1)
            dx, dy = np.float32(x - left), np.float32(y - top)
            for f in range(channels):
                upper = image[top, left, f] + dx * (image[top, right, f] - image[top, left, f])
                lower = image[bottom, left, f] + dx * (image[bottom, right, f] - image[bottom, left, f])
                out[r, c, f] = upper + dy * (lower - upper)
