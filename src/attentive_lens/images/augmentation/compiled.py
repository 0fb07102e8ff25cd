"""Resampling an image at moved places, in one compiled pass."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray


@njit(cache=True, nogil=True, inline="always")
def _fetch(image: NDArray[np.float32], x: float, y: float, pixel: NDArray[np.float32]) -> None:
    """Fill ``pixel`` (C) from the four about a place, bilinearly; outside the image its border is repeated."""
    rows, columns, channels = image.shape
    x = min(max(x, 0.0), columns - 1.0)
    y = min(max(y, 0.0), rows - 1.0)
    left, top = int(x), int(y)
    right, bottom = min(left + 1, columns - 1), min(top + 1, rows - 1)
    dx, dy = np.float32(x - left), np.float32(y - top)
    for f in range(channels):
        upper = image[top, left, f] + dx * (image[top, right, f] - image[top, left, f])
        lower = image[bottom, left, f] + dx * (image[bottom, right, f] - image[bottom, left, f])
        pixel[f] = upper + dy * (lower - upper)


@njit(cache=True, nogil=True)
def warp(image: NDArray[np.float32], matrix: NDArray[np.float32], out: NDArray[np.float32]) -> None:
    """Fill ``out`` (S×S×C) from ``image`` through a projective matrix.

    ``matrix`` (3×3) leads from places in ``out`` to places in ``image``, both counted from the centre.
    """
    rows, columns = image.shape[:2]
    middle_r, middle_c = (rows - 1) / 2, (columns - 1) / 2
    for r in range(rows):
        for c in range(columns):
            across, down = c - middle_c, r - middle_r
            nearness = matrix[2, 0] * across + matrix[2, 1] * down + matrix[2, 2]
            x = (matrix[0, 0] * across + matrix[0, 1] * down + matrix[0, 2]) / nearness + middle_c
            y = (matrix[1, 0] * across + matrix[1, 1] * down + matrix[1, 2]) / nearness + middle_r
            _fetch(image, x, y, out[r, c])


@njit(cache=True, nogil=True)
def displace(
    image: NDArray[np.float32], across: NDArray[np.float32], down: NDArray[np.float32], out: NDArray[np.float32]
) -> None:
    """Fill ``out`` (S×S×C) from ``image`` at places moved by so many pixels, each S×S."""
    rows, columns = image.shape[:2]
    for r in range(rows):
        for c in range(columns):
            _fetch(image, c + across[r, c], r + down[r, c], out[r, c])
