"""Loops that NumPy would need several passes for, compiled once and kept on disk; they free the interpreter."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array


@njit(cache=True, nogil=True)
def pool_forward(images: Array, window: int, stride: int, out: Array, place: NDArray[np.uint16]) -> None:
    """Write the greatest value of every window to ``out`` and its place in the window (row·side + column)."""
    n, rows, columns, channels = out.shape
    for i in range(n):
        for r in range(rows):
            for c in range(columns):
                y, x = r * stride, c * stride
                for f in range(channels):
                    out[i, r, c, f] = images[i, y, x, f]
                    place[i, r, c, f] = 0
                for k in range(1, window * window):
                    dy, dx = k // window, k % window
                    for f in range(channels):
                        value = images[i, y + dy, x + dx, f]
                        if value > out[i, r, c, f]:
                            out[i, r, c, f] = value
                            place[i, r, c, f] = k


@njit(cache=True, nogil=True)
def pool_backward(grad: Array, place: NDArray[np.uint16], window: int, stride: int, out: Array) -> None:
    """Add every window's gradient to the pixel that was its greatest; ``out`` starts as zeros."""
    n, rows, columns, channels = grad.shape
    for i in range(n):
        for r in range(rows):
            for c in range(columns):
                for f in range(channels):
                    k = place[i, r, c, f]
                    out[i, r * stride + k // window, c * stride + k % window, f] += grad[i, r, c, f]


@njit(cache=True, nogil=True)
def relu_backward(grad: Array, out: Array) -> None:
    """Stop, in place, the gradient where the output was zero; both are flat."""
    for i in range(grad.size):
        if not out[i] > 0:
            grad[i] = 0


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
def depthwise(images: Array, kernel: Array, stride: int, before: int, apart: int, out: Array) -> None:
    """Cross-correlate every channel with its own filter (K×K×C); ``out`` (N×OH×OW×C) holds the bias at first."""
    _, height, width, channels = images.shape
    n, rows, columns, _ = out.shape
    for i in range(n):
        for r in range(rows):
            for c in range(columns):
                for u in range(kernel.shape[0]):
                    y = r * stride - before + u * apart
                    if 0 <= y < height:
                        for v in range(kernel.shape[1]):
                            x = c * stride - before + v * apart
                            if 0 <= x < width:
                                for f in range(channels):
                                    out[i, r, c, f] += images[i, y, x, f] * kernel[u, v, f]


@njit(cache=True, nogil=True)
def depthwise_backward(
    images: Array, kernel: Array, stride: int, before: int, apart: int, grad: Array, to_images: Array, to_kernel: Array
) -> None:
    """Add the gradients of images and filters, for that of the output, to two arrays of their shapes."""
    _, height, width, channels = images.shape
    n, rows, columns, _ = grad.shape
    for i in range(n):
        for r in range(rows):
            for c in range(columns):
                for u in range(kernel.shape[0]):
                    y = r * stride - before + u * apart
                    if 0 <= y < height:
                        for v in range(kernel.shape[1]):
                            x = c * stride - before + v * apart
                            if 0 <= x < width:
                                for f in range(channels):
                                    to_images[i, y, x, f] += grad[i, r, c, f] * kernel[u, v, f]
                                    to_kernel[u, v, f] += grad[i, r, c, f] * images[i, y, x, f]


@njit(cache=True, nogil=True, fastmath={"contract", "reassoc", "nsz"})
def tiles_from_images(images: Array, before: int, down: int, across: int, first: int, out: Array) -> None:
    """Transform 6×6 pixels of every tile: ``out`` is 36×tiles×C, tiles counted by image, row and column of tiles."""
    _, height, width, channels = images.shape
    patch = np.zeros((36, channels), images.dtype)
    half = np.empty((36, channels), images.dtype)
    for t in range(out.shape[1]):
        image, rest = divmod(first + t, down * across)
        top, left = (rest // across) * 4 - before, (rest % across) * 4 - before
        for r in range(6):
            for c in range(6):
                y, x = top + r, left + c
                if 0 <= y < height and 0 <= x < width:
                    for f in range(channels):
                        patch[r * 6 + c, f] = images[image, y, x, f]
                else:
                    for f in range(channels):
                        patch[r * 6 + c, f] = 0
        for c in range(6):
            for f in range(channels):
                d0, d1, d2 = patch[c, f], patch[6 + c, f], patch[12 + c, f]
                d3, d4, d5 = patch[18 + c, f], patch[24 + c, f], patch[30 + c, f]
                half[c, f] = 4 * d0 - 5 * d2 + d4
                half[6 + c, f] = d4 + d3 - 4 * (d1 + d2)
                half[12 + c, f] = d4 - d3 + 4 * (d1 - d2)
                half[18 + c, f] = d4 - d2 + 2 * (d3 - d1)
                half[24 + c, f] = d4 - d2 - 2 * (d3 - d1)
                half[30 + c, f] = 4 * d1 - 5 * d3 + d5
        for r in range(6):
            k = r * 6
            for f in range(channels):
                d0, d1, d2 = half[k, f], half[k + 1, f], half[k + 2, f]
                d3, d4, d5 = half[k + 3, f], half[k + 4, f], half[k + 5, f]
                out[k, t, f] = 4 * d0 - 5 * d2 + d4
                out[k + 1, t, f] = d4 + d3 - 4 * (d1 + d2)
                out[k + 2, t, f] = d4 - d3 + 4 * (d1 - d2)
                out[k + 3, t, f] = d4 - d2 + 2 * (d3 - d1)
                out[k + 4, t, f] = d4 - d2 - 2 * (d3 - d1)
                out[k + 5, t, f] = 4 * d1 - 5 * d3 + d5


@njit(cache=True, nogil=True, fastmath={"contract", "reassoc", "nsz"})
def tiles_to_images(made: Array, bias: Array, activate: bool, down: int, across: int, first: int, out: Array) -> None:
    """Transform every tile of ``made`` (36×tiles×F) back to 4×4 pixels, add the bias, and stop what is negative."""
    _, height, width, filters = out.shape
    half = np.empty((24, filters), out.dtype)
    zero = out.dtype.type(0)
    for t in range(made.shape[1]):
        image, rest = divmod(first + t, down * across)
        top, left = (rest // across) * 4, (rest % across) * 4
        for c in range(6):
            for f in range(filters):
                a, b = made[6 + c, t, f] + made[12 + c, t, f], made[6 + c, t, f] - made[12 + c, t, f]
                d, e = made[18 + c, t, f] + made[24 + c, t, f], made[18 + c, t, f] - made[24 + c, t, f]
                half[c, f] = made[c, t, f] + a + d
                half[6 + c, f] = b + 2 * e
                half[12 + c, f] = a + 4 * d
                half[18 + c, f] = b + 8 * e + made[30 + c, t, f]
        for r in range(min(4, height - top)):
            k = r * 6
            for f in range(filters):
                a, b = half[k + 1, f] + half[k + 2, f], half[k + 1, f] - half[k + 2, f]
                d, e = half[k + 3, f] + half[k + 4, f], half[k + 3, f] - half[k + 4, f]
                half[k, f] = half[k, f] + a + d + bias[f]
                half[k + 1, f] = b + 2 * e + bias[f]
                half[k + 2, f] = a + 4 * d + bias[f]
                half[k + 3, f] = b + 8 * e + half[k + 5, f] + bias[f]
            for c in range(min(4, width - left)):
                if activate:
                    for f in range(filters):
                        out[image, top + r, left + c, f] = max(half[k + c, f], zero)
                else:
                    for f in range(filters):
                        out[image, top + r, left + c, f] = half[k + c, f]


@njit(cache=True, nogil=True, fastmath={"contract", "reassoc", "nsz"})
def tiles_from_gradient(grad: Array, down: int, across: int, first: int, out: Array) -> None:
    """The transposed map of `tiles_to_images` for the gradient of its output: ``out`` is 36×tiles×F."""
    _, height, width, filters = grad.shape
    patch = np.zeros((16, filters), grad.dtype)
    half = np.empty((24, filters), grad.dtype)
    for t in range(out.shape[1]):
        image, rest = divmod(first + t, down * across)
        top, left = (rest // across) * 4, (rest % across) * 4
        for r in range(4):
            for c in range(4):
                if top + r < height and left + c < width:
                    for f in range(filters):
                        patch[r * 4 + c, f] = grad[image, top + r, left + c, f]
                else:
                    for f in range(filters):
                        patch[r * 4 + c, f] = 0
        for c in range(4):
            for f in range(filters):
                g0, g1, g2, g3 = patch[c, f], patch[4 + c, f], patch[8 + c, f], patch[12 + c, f]
                half[c, f] = g0
                half[4 + c, f] = g0 + g1 + g2 + g3
                half[8 + c, f] = g0 - g1 + g2 - g3
                half[12 + c, f] = g0 + 2 * g1 + 4 * g2 + 8 * g3
                half[16 + c, f] = g0 - 2 * g1 + 4 * g2 - 8 * g3
                half[20 + c, f] = g3
        for r in range(6):
            k = r * 4
            for f in range(filters):
                g0, g1, g2, g3 = half[k, f], half[k + 1, f], half[k + 2, f], half[k + 3, f]
                out[r * 6, t, f] = g0
                out[r * 6 + 1, t, f] = g0 + g1 + g2 + g3
                out[r * 6 + 2, t, f] = g0 - g1 + g2 - g3
                out[r * 6 + 3, t, f] = g0 + 2 * g1 + 4 * g2 + 8 * g3
                out[r * 6 + 4, t, f] = g0 - 2 * g1 + 4 * g2 - 8 * g3
                out[r * 6 + 5, t, f] = g3
