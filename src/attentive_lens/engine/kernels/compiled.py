"""Loops that NumPy would need several passes for, compiled once and kept on disk; they free the interpreter."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array


@njit(cache=True, nogil=True)
def pool_forward(
    images: Array, window: tuple[int, int], stride: int, before: tuple[int, int], out: Array, place: NDArray[np.uint16]
) -> None:
    """Write the greatest value of every window to ``out`` and its place in the window (row·columns + column).

    A window that begins ``before`` the image, or ends behind it, counts what it has of it.
    """
    _, height, width, _ = images.shape
    n, rows, columns, channels = out.shape
    tall, wide = window
    for i in range(n):
        for r in range(rows):
            top = r * stride - before[0]
            first, last = max(0, -top), min(tall, height - top)
            for c in range(columns):
                left = c * stride - before[1]
                begin, end = max(0, -left), min(wide, width - left)
                for f in range(channels):
                    out[i, r, c, f] = images[i, top + first, left + begin, f]
                    place[i, r, c, f] = first * wide + begin
                for u in range(first, last):
                    for v in range(begin, end):
                        if u == first and v == begin:
                            continue
                        k = u * wide + v
                        for f in range(channels):
                            value = images[i, top + u, left + v, f]
                            if value > out[i, r, c, f]:
                                out[i, r, c, f] = value
                                place[i, r, c, f] = k


@njit(cache=True, nogil=True)
def pool_backward(
    grad: Array, place: NDArray[np.uint16], window: tuple[int, int], stride: int, before: tuple[int, int], out: Array
) -> None:
    """Add every window's gradient to the pixel that was its greatest; ``out`` starts as zeros."""
    _, height, width, _ = out.shape
    n, rows, columns, channels = grad.shape
    tall, wide = window
    for i in range(n):
        for r in range(rows):
            top = r * stride - before[0]
            for c in range(columns):
                left = c * stride - before[1]
                for u in range(max(0, -top), min(tall, height - top)):
                    for v in range(max(0, -left), min(wide, width - left)):
                        k = u * wide + v
                        for f in range(channels):
                            if place[i, r, c, f] == k:
                                out[i, top + u, left + v, f] += grad[i, r, c, f]


@njit(cache=True, nogil=True)
def pool_backward_shared(
    grad: Array, inputs: Array, greatest: Array, tie: float, window: tuple[int, int], stride: int,
    before: tuple[int, int], out: Array,
) -> None:  # fmt: skip
    """As `pool_backward`, evenly to all pixels that are less than the greatest by at most that part of it."""
    _, height, width, _ = out.shape
    n, rows, columns, channels = grad.shape
    tall, wide = window
    least, share = np.empty(channels, grad.dtype), np.empty(channels, grad.dtype)
    zero, one = grad.dtype.type(0), grad.dtype.type(1)
    for i in range(n):
        for r in range(rows):
            top = r * stride - before[0]
            first, last = max(0, -top), min(tall, height - top)
            for c in range(columns):
                left = c * stride - before[1]
                begin, end = max(0, -left), min(wide, width - left)
                for f in range(channels):
                    least[f] = greatest[i, r, c, f] - tie * abs(greatest[i, r, c, f])
                    share[f] = zero
                for u in range(first, last):
                    for v in range(begin, end):
                        for f in range(channels):
                            share[f] += one if inputs[i, top + u, left + v, f] >= least[f] else zero
                for f in range(channels):
                    share[f] = grad[i, r, c, f] / share[f]
                for u in range(first, last):
                    for v in range(begin, end):
                        for f in range(channels):
                            equal = inputs[i, top + u, left + v, f] >= least[f]
                            out[i, top + u, left + v, f] += share[f] if equal else zero


@njit(cache=True, nogil=True)
def pool_backward_apart(grad: Array, place: NDArray[np.uint16], window: int, out: Array) -> None:
    """As `pool_backward`, for square windows that neither overlap nor leave gaps: every pixel is written once."""
    n, rows, columns, channels = grad.shape
    zero = grad.dtype.type(0)
    for i in range(n):
        for r in range(rows):
            for c in range(columns):
                for u in range(window):
                    for v in range(window):
                        k = u * window + v
                        for f in range(channels):
                            chosen = place[i, r, c, f] == k
                            out[i, r * window + u, c * window + v, f] = grad[i, r, c, f] if chosen else zero


@njit(cache=True, nogil=True)
def pool_pairs(images: Array, out: Array, place: NDArray[np.uint16]) -> None:
    """As `pool_forward`, for windows of 2×2 that neither overlap nor leave gaps: one pass over all four pixels."""
    n, rows, columns, channels = out.shape
    for i in range(n):
        for r in range(rows):
            for c in range(columns):
                for f in range(channels):
                    best, where = images[i, 2 * r, 2 * c, f], np.uint16(0)
                    second, third = images[i, 2 * r, 2 * c + 1, f], images[i, 2 * r + 1, 2 * c, f]
                    fourth = images[i, 2 * r + 1, 2 * c + 1, f]
                    where = np.uint16(1) if second > best else where
                    best = second if second > best else best
                    where = np.uint16(2) if third > best else where
                    best = third if third > best else best
                    where = np.uint16(3) if fourth > best else where
                    out[i, r, c, f] = fourth if fourth > best else best
                    place[i, r, c, f] = where


@njit(cache=True, nogil=True)
def channel_sums(values: Array, sums: NDArray[np.float64]) -> None:
    """Fill ``sums`` (2×C, zeros at first) with the sum and the sum of squares of each column of values (V×C)."""
    for i in range(values.shape[0]):
        for f in range(values.shape[1]):
            value = np.float64(values[i, f])
            sums[0, f] += value
            sums[1, f] += value * value


@njit(cache=True, nogil=True)
def channel_products(grad: Array, values: Array, mean: Array, inverse: Array, sums: NDArray[np.float64]) -> None:
    """Fill ``sums`` (2×C, zeros at first) with Σ grad and Σ grad · (value − mean) · inverse of each column."""
    for i in range(grad.shape[0]):
        for f in range(grad.shape[1]):
            sums[0, f] += np.float64(grad[i, f])
            sums[1, f] += np.float64(grad[i, f] * ((values[i, f] - mean[f]) * inverse[f]))


@njit(cache=True, nogil=True)
def normalise(values: Array, mean: Array, factor: Array, offset: Array, activate: bool, out: Array) -> None:
    """Out = (values − mean) · factor + offset, column by column (V×C), and 0 where that is negative if asked."""
    zero = out.dtype.type(0)
    for i in range(values.shape[0]):
        if activate:
            for f in range(values.shape[1]):
                out[i, f] = max((values[i, f] - mean[f]) * factor[f] + offset[f], zero)
        else:
            for f in range(values.shape[1]):
                out[i, f] = (values[i, f] - mean[f]) * factor[f] + offset[f]


@njit(cache=True, nogil=True)
def normal_backward(grad: Array, values: Array, mean: Array, factor: Array, slope: Array, offset: Array) -> None:
    """Grad = grad · factor + (values − mean) · slope + offset, column by column (V×C), in place."""
    for i in range(grad.shape[0]):
        for f in range(grad.shape[1]):
            grad[i, f] = grad[i, f] * factor[f] + (values[i, f] - mean[f]) * slope[f] + offset[f]


@njit(cache=True, nogil=True)
def relu_backward(grad: Array, out: Array) -> None:
    """Stop, in place, the gradient where the output was zero; both are flat."""
    for i in range(grad.size):
        if not out[i] > 0:
            grad[i] = 0


@njit(cache=True, nogil=True)
def leaky_backward(grad: Array, out: Array, slope: float) -> None:
    """Times the slope, in place, where the output was not above zero; both are flat."""
    factor = grad.dtype.type(slope)
    for i in range(grad.size):
        if not out[i] > 0:
            grad[i] *= factor


@njit(cache=True, nogil=True)
def add_bias(out: Array, bias: Array, activate: bool) -> None:
    """Add one value a column to ``out`` (pixels×F) in place, and stop what is then negative if asked to."""
    zero = out.dtype.type(0)
    for i in range(len(out)):
        if activate:
            for f in range(out.shape[1]):
                out[i, f] = max(out[i, f] + bias[f], zero)
        else:
            for f in range(out.shape[1]):
                out[i, f] += bias[f]


@njit(cache=True, nogil=True)
def depthwise(images: Array, kernel: Array, stride: int, before: tuple[int, int], apart: int, out: Array) -> None:
    """Cross-correlate every channel with its own filter (KH×KW×C); ``out`` (N×OH×OW×C) holds the bias at first."""
    _, height, width, channels = images.shape
    n, rows, columns, _ = out.shape
    for i in range(n):
        for r in range(rows):
            for c in range(columns):
                for u in range(kernel.shape[0]):
                    y = r * stride - before[0] + u * apart
                    if 0 <= y < height:
                        for v in range(kernel.shape[1]):
                            x = c * stride - before[1] + v * apart
                            if 0 <= x < width:
                                for f in range(channels):
                                    out[i, r, c, f] += images[i, y, x, f] * kernel[u, v, f]


@njit(cache=True, nogil=True)
def depthwise_backward(
    images: Array,
    kernel: Array,
    stride: int,
    before: tuple[int, int],
    apart: int,
    grad: Array,
    to_images: Array,
    to_kernel: Array,
) -> None:
    """Add the gradients of images and filters, for that of the output, to two arrays of their shapes."""
    _, height, width, channels = images.shape
    n, rows, columns, _ = grad.shape
    for i in range(n):
        for r in range(rows):
            for c in range(columns):
                for u in range(kernel.shape[0]):
                    y = r * stride - before[0] + u * apart
                    if 0 <= y < height:
                        for v in range(kernel.shape[1]):
                            x = c * stride - before[1] + v * apart
                            if 0 <= x < width:
                                for f in range(channels):
                                    to_images[i, y, x, f] += grad[i, r, c, f] * kernel[u, v, f]
                                    to_kernel[u, v, f] += grad[i, r, c, f] * images[i, y, x, f]
