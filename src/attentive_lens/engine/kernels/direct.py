"""Convolution straight from the maps: no windows are laid out, and sums stay in the processor's registers.

In N×H×W×C one row of a window, KW·C values, is contiguous in memory, and the next window begins a step further on: the
loops of `direct_loops` read them where they are, in a copy of the maps with zeros round it where there is padding.
Cost is that of the direct formula, N·OH·OW·KH·KW·C·F multiply-adds, for the gradient of the inputs too, whatever the
stride: pixels that stand alike between strides are convolved with the part of the filters that reached them.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cache

import numpy as np

from attentive_lens.engine.arrays import Array, Dtype
from attentive_lens.engine.kernels.direct_loops import (
    VECTOR,
    Room,
    Target,
    Walk,
    block_width,
    correlate,
    correlate_with_gradient,
)
from attentive_lens.engine.kernels.scratch import scratch
from attentive_lens.plan.layers.base import Pads

NO_PADS: Pads = ((0, 0), (0, 0))
SPANS = (8, 9)
"""Values of a window that a gradient's tile takes: that of which fewest are left over."""


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

    @property
    def is_product(self) -> bool:
        """Whether it is one pixel at every place, so that convolution is the product of two matrices."""
        return self.kernel == (1, 1) and self.stride == 1 and self.pads == NO_PADS

    def counts(self, height: int, width: int) -> tuple[int, int]:
        """Windows that fit on so many rows and columns."""
        (top, bottom), (left, right) = self.pads
        tall, wide = self.extents
        return (height + top + bottom - tall) // self.stride + 1, (width + left + right - wide) // self.stride + 1


@dataclass(frozen=True)
class Phase:
    """What reaches one column or row of every ``stride``: which filter places, in the order of the gradient's pixels.

    Attributes
    ----------
    offset : int
        The first pixel of the map that it is for.
    places : tuple of int
        Rows (or columns) of the filters, the last first.
    first, step : int
        Where in the gradient the first window begins, and pixels from place to place.
    """

    offset: int
    places: tuple[int, ...]
    first: int
    step: int


def lanes(dtype: Dtype) -> int:
    """Values in a vector."""
    return VECTOR // dtype.itemsize


def panels(kernel: Array) -> Array:
    """Filters KH×KW×C×F as `correlate` reads them: blocks of columns, one after the other, filled up with zeros."""
    filters = kernel.shape[3]
    matrix, parts, first = kernel.reshape(-1, filters), [], 0
    while first < filters:
        width = block_width(filters - first, lanes(kernel.dtype))
        part = np.zeros((len(matrix), width), kernel.dtype)
        part[:, : filters - first] = matrix[:, first : first + width]
        parts.append(part.reshape(-1))
        first += width
    return np.concatenate(parts)


@dataclass(frozen=True)
class Filters:
    """Filters made ready once for many pieces: see `ready`.

    Attributes
    ----------
    forward : ndarray
        See `panels`.
    back : tuple
        For the gradient of the inputs: phases of rows and columns with the panels of the filters that reach them.
    """

    forward: Array
    back: tuple[tuple[Phase, Phase, Array], ...]


def ready(kernel: Array, window: Window) -> Filters:
    """Filters KH×KW×C×F in the forms that `convolve` and `input_gradient` read."""
    back = []
    for rows in _phases(window, 0):
        for columns in _phases(window, 1):
            part = kernel[list(rows.places)][:, list(columns.places)].transpose(0, 1, 3, 2)
            back.append((rows, columns, panels(np.ascontiguousarray(part))))
    return Filters(panels(kernel), tuple(back))


def convolve(
    images: Array,
    kernel: Array,
    window: Window,
    bias: Array | None = None,
    activate: bool = False,
    filters: Filters | None = None,
) -> Array:
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
        Whether negative outputs become 0.
    filters : Filters, optional
        From `ready`, if it is at hand.

    Returns
    -------
    ndarray, N×OH×OW×F
        A new array.
    """
    n, height, width, _ = images.shape
    count = kernel.shape[3]
    rows, columns = window.counts(height, width)
    out = np.empty((n, rows, columns, count), images.dtype)
    maps, room, shape = _laid_out(images, window.pads)
    forward = panels(kernel) if filters is None else filters.forward
    start = np.zeros(count, images.dtype) if bias is None else _plain(bias)
    walk = _walk(shape, window.kernel, window.stride, (window.dilation, window.dilation))
    to = Target(0, rows * columns * count, columns * count, count, n, rows, columns, count)
    if window.is_product:
        to = to._replace(images=1, rows=1, columns=n * rows * columns)
    correlate(maps, room, walk, forward, lanes(images.dtype), start, activate, out.reshape(-1), to)
    return out


def weight_gradient(images: Array, grad: Array, window: Window) -> Array:
    """Gradient of the filters: KH×KW×C×F, for the images that went in and the gradient N×OH×OW×F of what came out."""
    n, rows, columns, filters = grad.shape
    channels = images.shape[3]
    if window.is_product:
        product = np.dot(images.reshape(-1, channels).T, grad.reshape(-1, filters))
        return product.reshape(1, 1, channels, filters)
    stretch = channels if window.dilation > 1 else window.kernel[1] * channels
    span = min(SPANS, key=lambda each: -stretch % each)
    length = stretch + -stretch % span
    maps, room, shape = _laid_out(images, window.pads, slack=length - stretch)
    walk = _walk(shape, window.kernel, window.stride, (window.dilation, window.dilation))
    total = np.zeros((walk.tall * walk.wide, length, filters), grad.dtype)
    of = Target(0, rows * columns * filters, columns * filters, filters, n, rows, columns, filters)
    flat = _plain(grad).reshape(-1)
    correlate_with_gradient(maps, room, walk, flat, of, lanes(grad.dtype), span, total.reshape(-1))
    return np.ascontiguousarray(total[:, : walk.length]).reshape(*window.kernel, channels, filters)


def input_gradient(
    grad: Array, kernel: Array, window: Window, height: int, width: int, filters: Filters | None = None
) -> Array:
    """Gradient N×H×W×C of what went in: the gradient of what came out, convolved with the turned filters."""
    n, rows, columns, count = grad.shape
    channels, stride = kernel.shape[2], window.stride
    back = ready(kernel, window).back if filters is None else filters.back
    pads = (
        _pads([down for down, _, _ in back], stride, rows, height),
        _pads([across for _, across, _ in back], stride, columns, width),
    )
    maps, room, shape = _laid_out(grad, pads)
    whole = all(down.places and across.places for down, across, _ in back)
    out = (np.empty if whole else np.zeros)((n, height, width, channels), grad.dtype)
    nothing = np.zeros(channels, grad.dtype)
    for down, across, part in back:
        counts = -(-(height - down.offset) // stride), -(-(width - across.offset) // stride)
        if min(counts) < 1 or not down.places or not across.places:
            continue
        walk = _walk(shape, (len(down.places), len(across.places)), 1, (down.step, across.step))
        first = ((down.first + pads[0][0]) * shape[2] + across.first + pads[1][0]) * count
        to = Target(
            (down.offset * width + across.offset) * channels,
            height * width * channels,
            stride * width * channels,
            stride * channels,
            n,
            *counts,
            channels,
        )
        correlate(maps, room, walk._replace(first=first), part, lanes(grad.dtype), nothing, False, out.reshape(-1), to)
    return out


@cache
def _phases(window: Window, side: int) -> tuple[Phase, ...]:
    """The phases of rows (side 0) or columns (1).

    Pixel y of the map got to output (y + before − u·dilation) / stride by filter place u, where that is whole.
    """
    before, stride, dilation = window.pads[side][0], window.stride, window.dilation
    phases = []
    for offset in range(stride):
        places = tuple(u for u in range(window.kernel[side]) if (offset + before - u * dilation) % stride == 0)[::-1]
        first = (offset + before - places[0] * dilation) // stride if places else 0
        phases.append(Phase(offset, places, first, dilation // math.gcd(stride, dilation)))
    return tuple(phases)


def _pads(phases: list[Phase], stride: int, have: int, want: int) -> tuple[int, int]:
    """Zeros before and behind ``have`` rows of a gradient, for all phases of ``want`` rows of maps."""
    before, behind = 0, 0
    for phase in phases:
        count = -(-(want - phase.offset) // stride)
        if phase.places and count > 0:
            before = max(before, -phase.first)
            last = phase.first + count - 1 + (len(phase.places) - 1) * phase.step
            behind = max(behind, last + 1 - have)
    return before, behind


def _walk(shape: tuple[int, ...], kernel: tuple[int, int], stride: int, apart: tuple[int, int]) -> Walk:
    """Windows of so many rows and columns on maps N×H×W×C; a row of one whose columns touch is one stretch."""
    _, height, width, channels = shape
    row = width * channels
    wide, length = (kernel[1], channels) if apart[1] > 1 else (1, kernel[1] * channels)
    return Walk(
        0, height * row, stride * row, stride * channels, kernel[0], apart[0] * row, wide, apart[1] * channels, length
    )


def _laid_out(maps: Array, pads: Pads, slack: int = 0) -> tuple[Array, Room, tuple[int, ...]]:
    """Maps as N×H×W·C, room for one with zeros round it and a few values behind, and the shape N×H×W×C of all so."""
    n, height, width, channels = maps.shape
    (top, bottom), (left, right) = pads
    shape = (n, top + height + bottom, left + width + right, channels)
    rows = shape[1] if slack or shape != maps.shape else 0
    values = scratch("room", (rows * shape[2] * channels + slack,), maps.dtype)
    values[len(values) - slack :] = 0
    room = Room(values, rows, shape[2] * channels, top, left * channels)
    return _plain(maps).reshape(n, height, -1), room, shape


def _plain(values: Array) -> Array:
    """Values that are contiguous and may be written, though they are not: for others the loops are compiled anew."""
    values = np.ascontiguousarray(values)
    return values if values.flags.writeable else values.copy()
