"""The transforms of `tiles`, compiled: strips of tiles, one pass down the rows and one along the columns.

A strip is one row of tiles of one image; strips are counted through all images. Each pass writes one row at a time
from at most five others, over all channels: loops that the compiler turns into vector instructions, with the channel
as the last index of every array. Coefficients are of the arrays' own dtype, for a mixed product would be a double one.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array

LOOSE = {"contract", "reassoc", "nsz"}
"""What the compiler may do to sums; it may not assume that nothing is infinite."""


FROM_IMAGES = (
    np.array([[0, 2, 4, 4], [1, 2, 3, 4], [1, 2, 3, 4], [1, 2, 3, 4], [1, 2, 3, 4], [1, 3, 5, 5]]),
    np.array([[4, -5, 1, 0], [-4, -4, 1, 1], [4, -4, -1, 1], [-2, -1, 2, 1], [2, -1, -2, 1], [4, -5, 1, 0]]),
    6,
)
"""A transform: for each of the six rows (or columns) that it makes the four that these are made of, and times what;
and of how many rows, 4 apart, it is made."""
FROM_GRADIENT = (
    np.array([[0, 0, 0, 0], [0, 1, 2, 3], [0, 1, 2, 3], [0, 1, 2, 3], [0, 1, 2, 3], [3, 3, 3, 3]]),
    np.array([[1, 0, 0, 0], [1, 1, 1, 1], [1, -1, 1, -1], [1, 2, 4, 8], [1, -2, 4, -8], [1, 0, 0, 0]]),
    4,
)
"""The transposed map of `tiles_to_images`, for the gradient of its output."""


@njit(nogil=True)
def _lines(images: Array, image: int, top: int, before: int, line: Array) -> None:
    """Fill ``line`` (rows×columns×C) with the image from row ``top`` and column ``-before`` on, zeros outside.

    Columns outside are zero already and stay so.
    """
    height, width, channels = images.shape[1], images.shape[2], images.shape[3]
    to, start = max(0, before), max(0, -before)
    count = max(0, min(width - start, line.shape[1] - to))
    for r in range(line.shape[0]):
        y = top + r
        if 0 <= y < height:
            for c in range(count):
                for f in range(channels):
                    line[r, to + c, f] = images[image, y, start + c, f]
        else:
            for c in range(line.shape[1]):
                for f in range(channels):
                    line[r, c, f] = 0


@njit(cache=True, nogil=True, fastmath=LOOSE)
def tiles_from(
    maps: Array, places: NDArray[np.int64], factors: NDArray[np.int64], tall: int, before: int, down: int, across: int,
    first: int, strips: int, out: Array,
) -> None:  # fmt: skip
    """Transform the pixels of every tile: ``out`` is 36×tiles×C, tiles counted along each strip.

    Parameters
    ----------
    maps : ndarray, N×H×W×C
        Images, or the gradient of outputs; zeros outside.
    places, factors, tall
        `FROM_IMAGES` or `FROM_GRADIENT`.
    before : int
        Rows and columns by which the first tile begins before the map.
    down, across : int
        Tiles of a map.
    first, strips : int
        Which strips are transformed.
    """
    columns, channels = 4 * across + tall - 4, maps.shape[3]
    where, times = places.astype(np.uint64), factors.astype(maps.dtype)
    line, half = np.zeros((tall, columns, channels), maps.dtype), np.empty((6, columns, channels), maps.dtype)
    lines, halves = line.reshape(tall, columns * channels), half.reshape(6, columns * channels)
    for s in range(strips):
        image, strip = divmod(first + s, down)
        _lines(maps, image, strip * 4 - before, before, line)
        for k in range(6):
            a, b, c, d = where[k, 0], where[k, 1], where[k, 2], where[k, 3]
            ka, kb, kc, kd = times[k, 0], times[k, 1], times[k, 2], times[k, 3]
            for j in range(columns * channels):
                halves[k, j] = ka * lines[a, j] + kb * lines[b, j] + kc * lines[c, j] + kd * lines[d, j]
        for r in range(6):
            for k in range(6):
                a, b, c, d = where[k, 0], where[k, 1], where[k, 2], where[k, 3]
                ka, kb, kc, kd = times[k, 0], times[k, 1], times[k, 2], times[k, 3]
                for t in range(across):
                    x = np.uint64(4 * t)
                    for f in range(channels):
                        out[6 * r + k, s * across + t, f] = (
                            ka * half[r, x + a, f]
                            + kb * half[r, x + b, f]
                            + kc * half[r, x + c, f]
                            + kd * half[r, x + d, f]
                        )


@njit(cache=True, nogil=True, fastmath=LOOSE)
def tiles_to_images(
    products: Array, bias: Array, activate: bool, down: int, across: int, first: int, strips: int, out: Array
) -> None:
    """Transform every tile of ``made`` (36×tiles×F) back to 4×4 pixels, add the bias, and stop what is negative."""
    height, width, filters = out.shape[1], out.shape[2], out.shape[3]
    kind = out.dtype.type
    zero, two, four, eight = kind(0), kind(2), kind(4), kind(8)
    half = np.empty((6, 4 * across, filters), out.dtype)
    for s in range(strips):
        image, strip = divmod(first + s, down)
        at = s * across
        for r in range(6):
            k = 6 * r
            for t in range(across):
                for f in range(filters):
                    half[r, 4 * t, f] = (
                        products[k, at + t, f]
                        + products[k + 1, at + t, f]
                        + products[k + 2, at + t, f]
                        + products[k + 3, at + t, f]
                        + products[k + 4, at + t, f]
                    )
                for f in range(filters):
                    half[r, 4 * t + 1, f] = (products[k + 1, at + t, f] - products[k + 2, at + t, f]) + two * (
                        products[k + 3, at + t, f] - products[k + 4, at + t, f]
                    )
                for f in range(filters):
                    half[r, 4 * t + 2, f] = (products[k + 1, at + t, f] + products[k + 2, at + t, f]) + four * (
                        products[k + 3, at + t, f] + products[k + 4, at + t, f]
                    )
                for f in range(filters):
                    half[r, 4 * t + 3, f] = (
                        (products[k + 1, at + t, f] - products[k + 2, at + t, f])
                        + eight * (products[k + 3, at + t, f] - products[k + 4, at + t, f])
                        + products[k + 5, at + t, f]
                    )
        for r in range(min(4, height - 4 * strip)):
            y = 4 * strip + r
            for c in range(width):
                if r == 0:
                    for f in range(filters):
                        out[image, y, c, f] = (
                            half[0, c, f] + half[1, c, f] + half[2, c, f] + half[3, c, f] + half[4, c, f] + bias[f]
                        )
                elif r == 1:
                    for f in range(filters):
                        out[image, y, c, f] = (
                            (half[1, c, f] - half[2, c, f]) + two * (half[3, c, f] - half[4, c, f]) + bias[f]
                        )
                elif r == 2:
                    for f in range(filters):
                        out[image, y, c, f] = (
                            (half[1, c, f] + half[2, c, f]) + four * (half[3, c, f] + half[4, c, f]) + bias[f]
                        )
                else:
                    for f in range(filters):
                        out[image, y, c, f] = (
                            (half[1, c, f] - half[2, c, f])
                            + eight * (half[3, c, f] - half[4, c, f])
                            + half[5, c, f]
                            + bias[f]
                        )
                if activate:
                    for f in range(filters):
                        out[image, y, c, f] = max(out[image, y, c, f], zero)
