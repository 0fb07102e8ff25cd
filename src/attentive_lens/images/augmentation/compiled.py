"""The compiled loops of the augmentation: resampling at moved places, and stretching values."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray


@njit(nogil=True, error_model="numpy", forceinline=True)
def _aim(
    x: NDArray[np.float32],
    y: NDArray[np.float32],
    rows: int,
    columns: int,
    channels: int,
    at: NDArray[np.int32],
) -> None:
    """Rotate the places (x, y) of one row into ``at``, where the upper left of the four pixels about each begins.

    ``x`` and ``y`` become the parts of a pixel beyond it. Places outside move to the border.
    """
    zero, right, bottom = np.float32(0), np.float32(columns - 1), np.float32(rows - 1)
    for c in range(len(x)):
        across, down = min(max(x[c], zero), right), min(max(y[c], zero), bottom)
        left, top = min(np.int32(across), np.int32(columns - 2)), min(np.int32(down), np.int32(rows - 2))
        x[c], y[c] = across - np.float32(left), down - np.float32(top)
        at[c] = (top * np.int32(columns) + left) * np.int32(channels)


@njit(nogil=True, forceinline=True)
def _mix(
    source: NDArray[np.float32],
    at: NDArray[np.int32],
    x: NDArray[np.float32],
    y: NDArray[np.float32],
    stride: int,
    channels: int,
    out: NDArray[np.float32],
) -> None:
    """Fill one row of ``out`` (columns·C) from the four pixels about each place, bilinearly."""
    here = 0
    for c in range(len(at)):
        upper = np.uint64(at[c])
        lower = upper + np.uint64(stride)
        for f in range(channels):
            g, h = np.uint64(f), np.uint64(f + channels)
            above = source[upper + g] + x[c] * (source[upper + h] - source[upper + g])
            below = source[lower + g] + x[c] * (source[lower + h] - source[lower + g])
            out[here] = above + y[c] * (below - above)
            here += 1


@njit(cache=True, nogil=True, error_model="numpy")
def warp(image: NDArray[np.float32], matrix: NDArray[np.float32], out: NDArray[np.float32]) -> None:
    """Fill ``out`` (H×W×C) from ``image`` (H×W×C, H and W at least 2) through a projective matrix.

    ``matrix`` (3×3) leads from places in ``out`` to places in ``image``, both counted from the centre; outside the
    image its border is repeated. Both arrays are contiguous.
    """
    rows, columns, channels = image.shape
    source, target = image.reshape(image.size), out.reshape(out.size)
    stride = columns * channels
    at = np.empty(columns, np.int32)
    x, y = np.empty(columns, np.float32), np.empty(columns, np.float32)
    middle_r, middle_c = np.float32((rows - 1) / 2), np.float32((columns - 1) / 2)
    for r in range(rows):
        down = np.float32(r) - middle_r
        for c in range(columns):
            across = np.float32(c) - middle_c
            nearness = matrix[2, 0] * across + matrix[2, 1] * down + matrix[2, 2]
            x[c] = (matrix[0, 0] * across + matrix[0, 1] * down + matrix[0, 2]) / nearness + middle_c
            y[c] = (matrix[1, 0] * across + matrix[1, 1] * down + matrix[1, 2]) / nearness + middle_r
        _aim(x, y, rows, columns, channels, at)
        if channels == 3:  # a constant the compiler can unroll
            _mix(source, at, x, y, stride, 3, target[r * stride : (r + 1) * stride])
        else:
            _mix(source, at, x, y, stride, channels, target[r * stride : (r + 1) * stride])


@njit(cache=True, nogil=True, error_model="numpy")
def displace(
    image: NDArray[np.float32], across: NDArray[np.float32], down: NDArray[np.float32], out: NDArray[np.float32]
) -> None:
    """Fill ``out`` (H×W×C) from ``image`` at places moved by so many pixels, each H×W; as `warp` otherwise."""
    rows, columns, channels = image.shape
    source, target = image.reshape(image.size), out.reshape(out.size)
    stride = columns * channels
    at = np.empty(columns, np.int32)
    x, y = np.empty(columns, np.float32), np.empty(columns, np.float32)
    for r in range(rows):
        for c in range(columns):
            x[c], y[c] = np.float32(c) + across[r, c], np.float32(r) + down[r, c]
        _aim(x, y, rows, columns, channels, at)
        _mix(source, at, x, y, stride, channels, target[r * stride : (r + 1) * stride])


@njit(cache=True, nogil=True)
def stretch(image: NDArray[np.float32], about: float, factor: float) -> None:
    """Move the values of a contiguous image from or to ``about`` by a factor, in place; cut off at 0 and 1."""
    values = image.reshape(image.size)
    middle, by, zero, one = np.float32(about), np.float32(factor), np.float32(0), np.float32(1)
    for k in range(len(values)):
        values[k] = min(max((values[k] - middle) * by + middle, zero), one)
