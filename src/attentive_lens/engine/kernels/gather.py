"""Convolution by blocked gathering: windows are laid out as rows of a matrix, block by block, and multiplied.

In N×H×W×C one row of a window, KW·C values, is contiguous in memory. Gathering is therefore a few long copies
on a strided view, and a block is made small enough to stay in cache until the
matrix product has used it. Cost is that of the direct formula, N·OH·OW·KH·KW·C·F multiply-adds, of which the
product runs near the machine's peak when C·KH·KW and F are 64 or more.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.kernels.compiled import add_bias
from attentive_lens.engine.kernels.scratch import scratch

BLOCK_BYTES = 1536 * 1024
"""Size of a gathered block: large enough that few calls are made, small enough for the shared cache."""


@dataclass(frozen=True)
class Window:
    """How a square window moves: places on a side, step, zeros before and after, pixels from place to place."""

    kernel: int
    stride: int
    before: int
    after: int
    dilation: int = 1

    @property
    def extent(self) -> int:
        """Pixels on its side."""
        return (self.kernel - 1) * self.dilation + 1

    def count(self, side: int) -> int:
        """Windows that fit on ``side`` pixels."""
        return (side + self.before + self.after - self.extent) // self.stride + 1


def convolve(images: Array, kernel: Array, window: Window, bias: Array | None = None, activate: bool = False) -> Array:
    """Cross-correlate images with filters.

    Parameters
    ----------
    images : ndarray, N×H×W×C
        Feature maps.
    kernel : ndarray, K×K×C×F
        Filters, of the same dtype.
    window : Window
        Its ``kernel`` is K.
    bias : ndarray, F, optional
        Added to every output pixel.
    activate : bool
        Whether negative outputs become 0; only with a bias.

    Returns
    -------
    ndarray, N×OH×OW×F
        A new array.
    """
    n, height, width, _ = images.shape
    filters = kernel.shape[3]
    out = np.empty((n, window.count(height), window.count(width), filters), images.dtype)
    matrix = kernel.reshape(-1, filters)
    for rows, at in _gathered(images, window):
        target = out[at].reshape(-1, filters)
        np.dot(rows, matrix, out=target)
        if bias is not None:
            add_bias(target, bias, activate)
    return out


def weight_gradient(images: Array, grad: Array, window: Window) -> Array:
    """Gradient of the filters: K×K×C×F, for the images that went in and the gradient N×OH×OW×F of what came out."""
    filters = grad.shape[3]
    depth = window.kernel**2 * images.shape[3]
    total = np.zeros((depth, filters), grad.dtype)
    part = scratch("weights", (depth, filters), grad.dtype)
    for rows, at in _gathered(images, window):
        np.dot(rows.T, grad[at].reshape(-1, filters), out=part)
        total += part
    return total.reshape(window.kernel, window.kernel, images.shape[3], filters)


def input_gradient(grad: Array, kernel: Array, window: Window, height: int, width: int) -> Array:
    """Gradient N×H×W×C of what went in: the gradient of what came out, convolved with the turned filters.

    With a stride above 1 the gradient is first spread out, zeros between its pixels.
    """
    turned = np.ascontiguousarray(kernel[::-1, ::-1].transpose(0, 1, 3, 2))
    step, reach = window.stride, window.extent - 1
    if step > 1:
        n, rows, columns, filters = grad.shape
        tall, wide = (rows - 1) * step + 1, (columns - 1) * step + 1
        spread = scratch("spread", (n, tall, wide, filters), grad.dtype)
        spread[...] = 0
        spread[:, ::step, ::step] = grad
        grad = spread
    ahead = reach - window.before
    below, right = (side + reach - have - ahead for side, have in ((height, grad.shape[1]), (width, grad.shape[2])))
    cut = max(0, -ahead)
    full = convolve(grad, turned, Window(window.kernel, 1, max(0, ahead), max(below, right, 0), window.dilation))
    if full.shape[1:3] == (height, width):
        return full
    return np.ascontiguousarray(full[:, cut : cut + height, cut : cut + width])


def _gathered(images: Array, window: Window) -> Iterator[tuple[Array, tuple[slice, slice]]]:
    """Blocks of windows as a matrix (pixels × K·K·C), each with the images and rows of the output it is for.

    The matrix is a scratch buffer: use it before asking for the next.
    """
    n, height, width, channels = images.shape
    rows, columns = window.count(height), window.count(width)
    k, step, apart, item = window.kernel, window.stride, window.dilation, images.itemsize
    depth = k * k * channels
    pixels = max(1, BLOCK_BYTES // (depth * item))
    group = min(n, max(1, pixels // (rows * columns)))
    band = rows if group > 1 else min(rows, max(1, pixels // columns))
    for first in range(0, n, group):
        block = images[first : first + group]
        padded = _padded(block, window) if window.before or window.after else np.ascontiguousarray(block)
        s0, s1, s2, s3 = padded.strides
        for top in range(0, rows, band):
            bottom = min(rows, top + band)
            shape: tuple[int, ...] = (len(block), bottom - top, columns, k, k * channels)
            strides: tuple[int, ...] = (s0, step * s1, step * s2, s1, s3)
            if apart > 1:
                shape = (*shape[:3], k, k, channels)
                strides = (*strides[:3], apart * s1, apart * s2, s3)
            view = np.ndarray(shape, images.dtype, padded, top * step * s1, strides)
            matrix = scratch("gathered", shape, images.dtype)
            np.copyto(matrix, view)
            yield matrix.reshape(-1, depth), (slice(first, first + len(block)), slice(top, bottom))


def _padded(images: Array, window: Window) -> Array:
    """The images with zeros round them, in a scratch buffer."""
    n, height, width, channels = images.shape
    a, b = window.before, window.after
    padded = scratch("padded", (n, height + a + b, width + a + b, channels), images.dtype)
    padded[:, :a] = 0
    padded[:, a + height :] = 0
    padded[:, :, :a] = 0
    padded[:, :, a + width :] = 0
    padded[:, a : a + height, a : a + width] = images
    return padded
