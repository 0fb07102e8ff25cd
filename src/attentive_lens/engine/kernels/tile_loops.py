"""The transforms of `tiles`, compiled: strips of tiles, one pass down the rows and one along the columns.

A strip is one row of tiles of one image; strips are counted through all images. Each pass writes one row at a time
from at most five others, over all channels: loops that the compiler turns into vector instructions, with the channel
as the last index of every array. Coefficients are of the arrays' own dtype, for a mixed product would be a double one.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from attentive_lens.engine.arrays import Array

LOOSE = {"contract", "reassoc", "nsz"}
"""What the compiler may do to sums; it may not assume that nothing is infinite."""


@njit(cache=True, nogil=True, fastmath=LOOSE, inline="always")
def _down(inputs: Array, a: int, ka: np.floating, b: int, kb: np.floating, c: int, kc: np.floating, d: int, kd: np.floating, out: Array, to: int) -> None:  # fmt: skip  # noqa: E501
    """out[to] = ka·inputs[a] + kb·inputs[b] + kc·inputs[c] + kd·inputs[d], rows of one length."""
    for j in range(inputs.shape[1]):
        out[to, j] = ka * inputs[a, j] + kb * inputs[b, j] + kc * inputs[c, j] + kd * inputs[d, j]


@njit(cache=True, nogil=True, fastmath=LOOSE, inline="always")
def _along(inputs: Array, row: int, a: int, ka: np.floating, b: int, kb: np.floating, c: int, kc: np.floating, d: int, kd: np.floating, out: Array, to: int, first: int, tiles: int) -> None:  # fmt: skip  # noqa: E501
    """The same of columns a to d of every tile in a row, to tiles ``first`` … of ``out[to]``."""
    for t in range(tiles):
        for f in range(inputs.shape[2]):
            out[to, first + t, f] = (
                ka * inputs[row, 4 * t + a, f]
                + kb * inputs[row, 4 * t + b, f]
                + kc * inputs[row, 4 * t + c, f]
                + kd * inputs[row, 4 * t + d, f]
            )


@njit(cache=True, nogil=True, inline="always")
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
def tiles_from_images(images: Array, before: int, down: int, across: int, first: int, strips: int, out: Array) -> None:
    """Transform 6×6 pixels of every tile: ``out`` is 36×tiles×C, tiles counted along each strip."""
    channels = images.shape[3]
    kind = images.dtype.type
    nil, one, two, four, five = kind(0), kind(1), kind(2), kind(4), kind(5)
    columns = 4 * across + 2
    line, half = np.zeros((6, columns, channels), images.dtype), np.zeros((6, columns, channels), images.dtype)
    lines, halves = line.reshape(6, columns * channels), half.reshape(6, columns * channels)
    for s in range(strips):
        image, strip = divmod(first + s, down)
        _lines(images, image, strip * 4 - before, before, line)
        _down(lines, 0, four, 2, -five, 4, one, 4, nil, halves, 0)
        _down(lines, 1, -four, 2, -four, 3, one, 4, one, halves, 1)
        _down(lines, 1, four, 2, -four, 3, -one, 4, one, halves, 2)
        _down(lines, 1, -two, 2, -one, 3, two, 4, one, halves, 3)
        _down(lines, 1, two, 2, -one, 3, -two, 4, one, halves, 4)
        _down(lines, 1, four, 3, -five, 5, one, 5, nil, halves, 5)
        at = s * across
        for r in range(6):
            _along(half, r, 0, four, 2, -five, 4, one, 4, nil, out, r * 6, at, across)
            _along(half, r, 1, -four, 2, -four, 3, one, 4, one, out, r * 6 + 1, at, across)
            _along(half, r, 1, four, 2, -four, 3, -one, 4, one, out, r * 6 + 2, at, across)
            _along(half, r, 1, -two, 2, -one, 3, two, 4, one, out, r * 6 + 3, at, across)
            _along(half, r, 1, two, 2, -one, 3, -two, 4, one, out, r * 6 + 4, at, across)
            _along(half, r, 1, four, 3, -five, 5, one, 5, nil, out, r * 6 + 5, at, across)


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


@njit(cache=True, nogil=True, fastmath=LOOSE)
def tiles_from_gradient(grad: Array, down: int, across: int, first: int, strips: int, out: Array) -> None:
    """The transposed map of `tiles_to_images` for the gradient of its output: ``out`` is 36×tiles×F."""
    filters = grad.shape[3]
    kind = grad.dtype.type
    nil, one, two, four, eight = kind(0), kind(1), kind(2), kind(4), kind(8)
    columns = 4 * across
    line, half = np.zeros((4, columns, filters), grad.dtype), np.zeros((6, columns, filters), grad.dtype)
    lines, halves = line.reshape(4, columns * filters), half.reshape(6, columns * filters)
    for s in range(strips):
        image, strip = divmod(first + s, down)
        _lines(grad, image, 4 * strip, 0, line)
        _down(lines, 0, one, 0, nil, 0, nil, 0, nil, halves, 0)
        _down(lines, 0, one, 1, one, 2, one, 3, one, halves, 1)
        _down(lines, 0, one, 1, -one, 2, one, 3, -one, halves, 2)
        _down(lines, 0, one, 1, two, 2, four, 3, eight, halves, 3)
        _down(lines, 0, one, 1, -two, 2, four, 3, -eight, halves, 4)
        _down(lines, 3, one, 3, nil, 3, nil, 3, nil, halves, 5)
        at = s * across
        for r in range(6):
            _along(half, r, 0, one, 0, nil, 0, nil, 0, nil, out, r * 6, at, across)
            _along(half, r, 0, one, 1, one, 2, one, 3, one, out, r * 6 + 1, at, across)
            _along(half, r, 0, one, 1, -one, 2, one, 3, -one, out, r * 6 + 2, at, across)
            _along(half, r, 0, one, 1, two, 2, four, 3, eight, out, r * 6 + 3, at, across)
            _along(half, r, 0, one, 1, -two, 2, four, 3, -eight, out, r * 6 + 4, at, across)
            _along(half, r, 3, one, 3, nil, 3, nil, 3, nil, out, r * 6 + 5, at, across)
