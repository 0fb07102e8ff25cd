"""Pooling, windowed and global."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.kernels.compiled import pool_backward, pool_forward
from attentive_lens.engine.layers.base import AnyLayer, Call, Layer
from attentive_lens.plan.layers import AveragePooling, GlobalPooling, MaxPooling, Pooling, PowerPooling, Shape

TINY = 1e-12
"""Added to a power mean, so that it has a slope where all its values are zero."""

Greatest: TypeAlias = tuple[NDArray[np.uint16], Shape]
"""Where in its window each greatest value stood, and the input's shape."""
Whole: TypeAlias = tuple[Array, NDArray[np.intp] | None, Array | None]
"""The input; where each greatest value stood, or each power mean, whichever was asked for."""


class MaxPoolingLayer(Layer[MaxPooling, Array, Greatest]):
    """The greatest value of each window; of equal ones the first, row by row, receives the gradient."""

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Greatest]:
        """N×OH×OW×C; keeps where each greatest value stood."""
        shape = (len(inputs), *self.settings.output_shape(inputs.shape[1:]))
        out = np.empty(shape, inputs.dtype)
        place = np.empty(shape, np.uint16)
        pool_forward(inputs, self.settings.kernel_size, self.settings.stride, out, place)
        return out, (place, inputs.shape)

    def backward(
        self,
        grad: Array,
        saved: Greatest,
        weights: dict[str, Array],
        need_inputs: bool,
        need_weights: bool,
    ) -> tuple[Array | None, dict[str, Array]]:
        """Each window's gradient goes to its greatest value."""
        if not need_inputs:
            return None, {}
        place, shape = saved
        out = np.zeros(shape, grad.dtype)
        pool_backward(np.ascontiguousarray(grad), place, self.settings.kernel_size, self.settings.stride, out)
        return out, {}


class AveragePoolingLayer(Layer[AveragePooling, Array, Shape]):
    """The mean of each window."""

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Shape]:
        """N×OH×OW×C; keeps the input's shape."""
        shape = (len(inputs), *self.settings.output_shape(inputs.shape[1:]))
        out = np.zeros(shape, inputs.dtype)
        for part in _offsets(inputs, self.settings, shape):
            out += part
        out /= self.settings.kernel_size**2
        return out, inputs.shape

    def backward(
        self, grad: Array, saved: Shape, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """Shared out evenly."""
        out = np.zeros(saved, grad.dtype)
        share = grad / np.asarray(self.settings.kernel_size**2, grad.dtype)
        for part in _offsets(out, self.settings, grad.shape):
            part += share
        return out, {}


class PowerPoolingLayer(Layer[PowerPooling, Array, tuple[Array, Array]]):
    """(mean |x|ᵖ)^(1/p) of each window (Sermanet 2012, eq. 1)."""

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, tuple[Array, Array]]:
        """N×OH×OW×C; keeps input and output."""
        power = self.settings.power
        shape = (len(inputs), *self.settings.output_shape(inputs.shape[1:]))
        out = np.zeros(shape, inputs.dtype)
        for part in _offsets(np.abs(inputs) ** power, self.settings, shape):
            out += part
        out = (out / self.settings.kernel_size**2 + TINY) ** (1 / power)
        return out.astype(inputs.dtype, copy=False), (inputs, out)

    def backward(
        self, grad: Array, saved: tuple[Array, Array], weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """G · y^(1−p) · |x|^(p−1) · sign(x) / count."""
        inputs, out = saved
        power = self.settings.power
        share = grad * out ** (1 - power) / self.settings.kernel_size**2
        spread = np.zeros(inputs.shape, grad.dtype)
        for part in _offsets(spread, self.settings, grad.shape):
            part += share
        return (spread * np.abs(inputs) ** (power - 1) * np.sign(inputs)).astype(grad.dtype, copy=False), {}


class GlobalPoolingLayer(Layer[GlobalPooling, Array, Whole]):
    """Mean, greatest, or power mean of each whole map."""

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Whole]:
        """N×C; keeps input and output."""
        if self.settings.mode == "average":
            return inputs.mean(axis=(1, 2)), (inputs, None, None)
        flat = inputs.reshape(len(inputs), -1, inputs.shape[3])
        if self.settings.mode == "max":
            place = flat.argmax(axis=1)
            return np.take_along_axis(flat, place[:, None], axis=1)[:, 0], (inputs, place, None)
        power = self.settings.power
        out = ((np.abs(flat) ** power).mean(axis=1) + TINY) ** (1 / power)
        return out.astype(inputs.dtype, copy=False), (inputs, None, out)

    def backward(
        self,
        grad: Array,
        saved: Whole,
        weights: dict[str, Array],
        need_inputs: bool,
        need_weights: bool,
    ) -> tuple[Array | None, dict[str, Array]]:
        """As for the windowed poolings, with one window."""
        inputs, place, mean = saved
        n, rows, columns, channels = inputs.shape
        if place is not None:
            out = np.zeros((n, rows * columns, channels), grad.dtype)
            np.put_along_axis(out, place[:, None], grad[:, None], axis=1)
            return out.reshape(inputs.shape), {}
        if mean is None:
            share = grad / np.asarray(rows * columns, grad.dtype)
            return np.broadcast_to(share[:, None, None, :], inputs.shape).copy(), {}
        power = self.settings.power
        share = grad * mean ** (1 - power) / (rows * columns)
        gradient = share[:, None, None, :] * np.abs(inputs) ** (power - 1) * np.sign(inputs)
        return gradient.astype(grad.dtype, copy=False), {}


def _offsets(maps: Array, settings: Pooling, shape: tuple[int, ...]) -> Iterator[Array]:
    """For each place in the window, the view of ``maps`` (N×H×W×C) that it takes over all windows."""
    step, (rows, columns) = settings.stride, shape[1:3]
    for down in range(settings.kernel_size):
        for across in range(settings.kernel_size):
            yield maps[:, down : down + step * rows : step, across : across + step * columns : step][:, :rows, :columns]


POOLINGS: dict[str, type[AnyLayer]] = {
    "max pooling": MaxPoolingLayer,
    "average pooling": AveragePoolingLayer,
    "power pooling": PowerPoolingLayer,
    "global pooling": GlobalPoolingLayer,
}
