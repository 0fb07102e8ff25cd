"""Pooling, windowed and global."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array, Dtype
from attentive_lens.engine.kernels.compiled import (
    pool_backward,
    pool_backward_apart,
    pool_backward_shared,
    pool_forward,
    pool_pairs,
)
from attentive_lens.engine.layers.base import AnyLayer, Call, Layer
from attentive_lens.plan.layers import AveragePooling, GlobalPooling, MaxPooling, Pooling, PowerPooling, Shape
from attentive_lens.plan.layers.base import both, product

TINY = 1e-12
"""Added to a power mean, so that it has a slope where all its values are zero."""

TIE = 1e-5
"""Part of a greatest value by which another may be smaller and still count as equal: kernels round by place."""

Greatest: TypeAlias = tuple[NDArray[np.uint16], Shape, tuple[Array, Array] | None]
"""Where in its window each greatest value stood, the input's shape, and input and output where equals are to share."""
Whole: TypeAlias = tuple[Array, Array | None]
"""The input, and each greatest value or power mean, whichever was asked for."""


class MaxPoolingLayer(Layer[MaxPooling, Array, Greatest]):
    """The greatest value of each window.

    In training the first of equal ones, row by row, receives the gradient; outside training, where gradients explain,
    they share it: what a flat area is said to add does not hang on the order in which its pixels are looked at.
    """

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Greatest]:
        """N×OH×OW×C; keeps where each greatest value stood."""
        shape = (len(inputs), *self.settings.output_shape(inputs.shape[1:]))
        out = np.empty(shape, inputs.dtype)
        place = np.empty(shape, np.uint16)
        s = self.settings
        if both(s.kernel_size) == (2, 2) and s.stride == 2 and not s.clips:
            pool_pairs(np.ascontiguousarray(inputs), out, place)
        else:
            pool_forward(inputs, both(s.kernel_size), s.stride, _before(s), out, place)
        return out, (place, inputs.shape, (inputs, out) if call.context is None else None)

    def backward(
        self,
        grad: Array,
        saved: Greatest,
        weights: dict[str, Array],
        need_inputs: bool,
        need_weights: bool,
    ) -> tuple[Array | None, dict[str, Array]]:
        """Each window's gradient goes to its greatest value, or evenly to those that are equal."""
        if not need_inputs:
            return None, {}
        place, shape, around = saved
        grad = np.ascontiguousarray(grad)
        s = self.settings
        if around is not None:
            out = np.zeros(shape, grad.dtype)
            pool_backward_shared(grad, *around, TIE, both(s.kernel_size), s.stride, _before(s), out)
            return out, {}
        if s.kernel_size == s.stride and not s.clips:
            whole = all(side % s.stride == 0 for side in shape[1:3])
            out = np.empty(shape, grad.dtype) if whole else np.zeros(shape, grad.dtype)
            pool_backward_apart(grad, place, s.stride, out)
            return out, {}
        out = np.zeros(shape, grad.dtype)
        pool_backward(grad, place, both(s.kernel_size), s.stride, _before(s), out)
        return out, {}


class AveragePoolingLayer(Layer[AveragePooling, Array, Shape]):
    """The mean of each window."""

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Shape]:
        """N×OH×OW×C; keeps the input's shape."""
        shape = (len(inputs), *self.settings.output_shape(inputs.shape[1:]))
        out = np.zeros(shape, inputs.dtype)
        for part in _offsets(_around(inputs, self.settings, shape), self.settings, shape):
            out += part
        out /= window_pixels(self.settings, inputs.shape, shape, inputs.dtype)
        return out, inputs.shape

    def backward(
        self, grad: Array, saved: Shape, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """Shared out evenly."""
        share = grad / window_pixels(self.settings, saved, grad.shape, grad.dtype)
        return _spread(share, self.settings, saved), {}


class PowerPoolingLayer(Layer[PowerPooling, Array, tuple[Array, Array]]):
    """(mean |x|ᵖ)^(1/p) of each window (Sermanet 2012, eq. 1)."""

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, tuple[Array, Array]]:
        """N×OH×OW×C; keeps input and output."""
        power = self.settings.power
        shape = (len(inputs), *self.settings.output_shape(inputs.shape[1:]))
        out = np.zeros(shape, inputs.dtype)
        for part in _offsets(_around(np.abs(inputs) ** power, self.settings, shape), self.settings, shape):
            out += part
        out = (out / window_pixels(self.settings, inputs.shape, shape, inputs.dtype) + TINY) ** (1 / power)
        return out.astype(inputs.dtype, copy=False), (inputs, out)

    def backward(
        self, grad: Array, saved: tuple[Array, Array], weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """G · y^(1−p) · |x|^(p−1) · sign(x) / count."""
        inputs, out = saved
        power = self.settings.power
        share = grad * out ** (1 - power) / window_pixels(self.settings, inputs.shape, grad.shape, grad.dtype)
        spread = _spread(share, self.settings, inputs.shape)
        return (spread * np.abs(inputs) ** (power - 1) * np.sign(inputs)).astype(grad.dtype, copy=False), {}


class GlobalPoolingLayer(Layer[GlobalPooling, Array, Whole]):
    """Mean, greatest, or power mean of each whole map."""

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Whole]:
        """N×C; keeps input and output."""
        if self.settings.mode == "average":
            return inputs.mean(axis=(1, 2)), (inputs, None)
        flat = inputs.reshape(len(inputs), -1, inputs.shape[3])
        if self.settings.mode == "max":
            greatest = flat.max(axis=1)
            return greatest, (inputs, greatest if call.context is None else None)
        power = self.settings.power
        out = ((np.abs(flat) ** power).mean(axis=1) + TINY) ** (1 / power)
        return out.astype(inputs.dtype, copy=False), (inputs, out)

    def backward(
        self,
        grad: Array,
        saved: Whole,
        weights: dict[str, Array],
        need_inputs: bool,
        need_weights: bool,
    ) -> tuple[Array | None, dict[str, Array]]:
        """As for the windowed poolings, with one window."""
        inputs, mean = saved
        n, rows, columns, channels = inputs.shape
        if self.settings.mode == "max":
            flat = inputs.reshape(n, -1, channels)
            if mean is not None:
                equal = flat >= (mean - TIE * np.abs(mean)).astype(mean.dtype)[:, None]
                return (equal * (grad / equal.sum(axis=1))[:, None]).astype(grad.dtype).reshape(inputs.shape), {}
            out = np.zeros(flat.shape, grad.dtype)
            np.put_along_axis(out, flat.argmax(axis=1)[:, None], grad[:, None], axis=1)
            return out.reshape(inputs.shape), {}
        if mean is None:
            share = grad / np.asarray(rows * columns, grad.dtype)
            return np.broadcast_to(share[:, None, None, :], inputs.shape).copy(), {}
        power = self.settings.power
        share = grad * mean ** (1 - power) / (rows * columns)
        gradient = share[:, None, None, :] * np.abs(inputs) ** (power - 1) * np.sign(inputs)
        return gradient.astype(grad.dtype, copy=False), {}


def _before(settings: Pooling) -> tuple[int, int]:
    """Pixels that the first window begins outside the map, of rows and of columns."""
    (top, _), (left, _) = settings.pads
    return top, left


def _reached(settings: Pooling, sides: tuple[int, ...]) -> tuple[int, int]:
    """Rows and columns from where the first window begins to where the last of so many ends."""
    tall, wide = both(settings.kernel_size)
    return (sides[0] - 1) * settings.stride + tall, (sides[1] - 1) * settings.stride + wide


def _around(maps: Array, settings: Pooling, shape: tuple[int, ...]) -> Array:
    """Maps with zeros wherever a window reaches outside them; the maps themselves where none does."""
    if not settings.clips:
        return maps
    top, left = _before(settings)
    rows, columns = _reached(settings, shape[1:3])
    height, width = maps.shape[1:3]
    bottom, right = max(0, rows - top - height), max(0, columns - left - width)
    return np.pad(maps, ((0, 0), (top, bottom), (left, right), (0, 0)))


def _spread(share: Array, settings: Pooling, input_shape: Shape) -> Array:
    """Each window's share added to all of its pixels: N×H×W×C."""
    top, left = _before(settings)
    rows, columns = _reached(settings, share.shape[1:3])
    n, height, width, channels = input_shape
    whole = np.zeros((n, max(rows, top + height), max(columns, left + width), channels), share.dtype)
    for part in _offsets(whole, settings, share.shape):
        part += share
    return np.ascontiguousarray(whole[:, top : top + height, left : left + width])


def window_pixels(settings: Pooling, input_shape: Shape, shape: tuple[int, ...], dtype: Dtype) -> Array:
    """How many pixels of the map each window holds: OH×OW×1, or one number where all hold the same."""
    extents = both(settings.kernel_size)
    if not settings.clips:
        return np.asarray(product(extents), dtype)
    counts = []
    for side, count, extent, before in zip(input_shape[1:3], shape[1:3], extents, _before(settings), strict=True):
        first = np.arange(count) * settings.stride - before
        counts.append(np.minimum(first + extent, side) - np.maximum(first, 0))
    return np.asarray(np.outer(*counts)[:, :, None], dtype)


def _offsets(maps: Array, settings: Pooling, shape: tuple[int, ...]) -> Iterator[Array]:
    """For each place in the window, the view of ``maps`` (N×H×W×C) that it takes over all windows."""
    step, (rows, columns) = settings.stride, shape[1:3]
    tall, wide = both(settings.kernel_size)
    for down in range(tall):
        for across in range(wide):
            yield maps[:, down : down + step * rows : step, across : across + step * columns : step][:, :rows, :columns]


POOLINGS: dict[str, type[AnyLayer]] = {
    "max pooling": MaxPoolingLayer,
    "average pooling": AveragePoolingLayer,
    "power pooling": PowerPoolingLayer,
    "global pooling": GlobalPoolingLayer,
}
