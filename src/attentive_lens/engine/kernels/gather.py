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
from attentive_lens.plan.layers.base import Pads

BLOCK_BYTES = 1536 * 1024
"""Size of a gathered block: large enough that few calls are made, small enough for the shared cache."""


NO_PADS: Pads = ((0, 0), (0, 0))


@dataclass(frozen=True)
class Window:
    """How a window moves: its rows and columns, step, zeros before and after of each, pixels from place to place."""

    kernel: tuple[int, int]
    stride: int
    pads: Pads
    dilation: int = 1

    @classmethod
    def square(cls, kernel: int, stride: int, before: int, after: int, dilation: int = 1) -> Window:
        """One that is the same both ways."""
        return cls((kernel, kernel), stride, ((before, after), (before, after)), dilation)

    @property
    def extents(self) -> tuple[int, int]:
        """Rows and columns that it spans."""
        return (self.kernel[0] - 1) * self.dilation + 1, (self.kernel[1] - 1) * self.dilation + 1

    def counts(self, height: int, width: int) -> tuple[int, int]:
        """Windows that fit on so many rows and columns."""
        (top, bottom), (left, right) = self.pads
        tall, wide = self.extents
        return (height + top + bottom - tall) // self.stride + 1, (width + left + right - wide) // self.stride + 1


def convolve(images: Array, kernel: Array, window: Window, bias: Array | None = None, activate: bool = False) -> Array:
    """Cross-correlate images with filters.

    Parameters
    ----------
    images : ndarray, N×H×W×C
        Feature maps.
    kernel : ndarray, KH×KW×C×F
        Filters, of the same dtype.
    window : Window
        Its ``kernel`` is (KH, KW).
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
    out = np.empty((n, *window.counts(height, width), filters), images.dtype)
    matrix = kernel.reshape(-1, filters)
    for rows, at in _gathered(images, window):
        target = out[at].reshape(-1, filters)
        np.dot(rows, matrix, out=target)
        if bias is not None:
            add_bias(target, bias, activate)
    return out


def weight_gradient(images: Array, grad: Array, window: Window) -> Array:
    """Gradient of the filters: KH×KW×C×F, for the images that went in and the gradient N×OH×OW×F of what came out."""
    filters = grad.shape[3]
    depth = window.kernel[0] * window.kernel[1] * images.shape[3]
    total = np.zeros((depth, filters), grad.dtype)
    part = scratch("weights", (depth, filters), grad.dtype)
    for rows, at in _gathered(images, window):
        np.dot(rows.T, grad[at].reshape(-1, filters), out=part)
        total += part
    return total.reshape(*window.kernel, images.shape[3], filters)


def input_gradient(grad: Array, kernel: Array, window: Window, height: int, width: int) -> Array:
    """Gradient N×H×W×C of what went in: the gradient of what came out, convolved with the turned filters.

    With a stride above 1 the gradient is first spread out, zeros between its pixels.
    """
    turned = np.ascontiguousarray(kernel[::-1, ::-1].transpose(0, 1, 3, 2))
    step = window.stride
    if step > 1:
        n, rows, columns, filters = grad.shape
        tall, wide = (rows - 1) * step + 1, (columns - 1) * step + 1
        spread = scratch("spread", (n, tall, wide, filters), grad.dtype)
        spread[...] = 0
        spread[:, ::step, ::step] = grad
        grad = spread
    cuts, pads = [], []
    for side, have, extent, (before, _) in zip(
        (height, width), grad.shape[1:3], window.extents, window.pads, strict=True
    ):
        ahead = extent - 1 - before
        cuts.append(max(0, -ahead))
        pads.append((max(0, ahead), max(0, side + before - have)))
    full = convolve(grad, turned, Window(window.kernel, 1, (pads[0], pads[1]), window.dilation))
    if full.shape[1:3] == (height, width):
        return full
    return np.ascontiguousarray(full[:, cuts[0] : cuts[0] + height, cuts[1] : cuts[1] + width])


def _gathered(images: Array, window: Window) -> Iterator[tuple[Array, tuple[slice, slice]]]:
    """Blocks of windows as a matrix (pixels × KH·KW·C), each with the images and rows of the output it is for.

    The matrix is a scratch buffer: use it before asking for the next. Windows of one pixel are the images themselves.
    """
    n, height, width, channels = images.shape
    rows, columns = window.counts(height, width)
    (tall, wide), step, apart, item = window.kernel, window.stride, window.dilation, images.itemsize
    depth = tall * wide * channels
    if depth == channels and step == 1 and window.pads == NO_PADS:
        yield np.ascontiguousarray(images).reshape(-1, channels), (slice(0, n), slice(0, rows))
        return
    pixels = max(1, BLOCK_BYTES // (depth * item))
    group = min(n, max(1, pixels // (rows * columns)))
    band = rows if group > 1 else min(rows, max(1, pixels // columns))
    for first in range(0, n, group):
        block = images[first : first + group]
        padded = _padded(block, window) if window.pads != NO_PADS else np.ascontiguousarray(block)
        s0, s1, s2, s3 = padded.strides
        for top in range(0, rows, band):
            bottom = min(rows, top + band)
            shape: tuple[int, ...] = (len(block), bottom - top, columns, tall, wide * channels)
            strides: tuple[int, ...] = (s0, step * s1, step * s2, s1, s3)
            if apart > 1:
                shape = (*shape[:3], tall, wide, channels)
                strides = (*strides[:3], apart * s1, apart * s2, s3)
            view = np.ndarray(shape, images.dtype, padded, top * step * s1, strides)
            matrix = scratch("gathered", shape, images.dtype)
            np.copyto(matrix, view)
            yield matrix.reshape(-1, depth), (slice(first, first + len(block)), slice(top, bottom))


def _padded(images: Array, window: Window) -> Array:
    """The images with zeros round them, in a scratch buffer."""
    n, height, width, channels = images.shape
    (top, bottom), (left, right) = window.pads
    padded = scratch("padded", (n, height + top + bottom, width + left + right, channels), images.dtype)
    padded[:, :top] = 0
    padded[:, top + height :] = 0
    padded[:, :, :left] = 0
    padded[:, :, left + width :] = 0
    padded[:, top : top + height, left : left + width] = images
    return padded
