"""Convolution, by whichever kernel suits its shape."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TypeAlias

import numpy as np

from attentive_lens.engine.arrays import Array, Dtype
from attentive_lens.engine.initialisation import initial_weights
from attentive_lens.engine.kernels import tiles
from attentive_lens.engine.kernels.choice import kernel_for, weights_by_tiles
from attentive_lens.engine.kernels.compiled import add_bias, depthwise, depthwise_backward
from attentive_lens.engine.kernels.direct import Filters, Window, convolve, input_gradient, ready, weight_gradient
from attentive_lens.engine.kernels.scratch import scratch
from attentive_lens.engine.layers.base import AnyLayer, Call, Layer
from attentive_lens.plan.initialisations import InitialisationSettings
from attentive_lens.plan.layers import Convolution, Shape
from attentive_lens.plan.layers.base import both, product


@dataclass(frozen=True)
class Tiles:
    """Filters transformed for `kernels.tiles`: forward, and turned for the gradient of the input."""

    forward: Array
    turned: Array


Seen: TypeAlias = tuple[Array, Tiles | Filters | None]
"""The input, and what was made of the filters by the kernel that ran, where it makes something of them."""


class ConvolutionLayer(Layer[Convolution, Array, Seen]):
    """Cross-correlation with learned filters, plus a bias per filter."""

    can_activate = True

    @cached_property
    def window(self) -> Window:
        """The window and its padding."""
        s = self.settings
        return Window(both(s.kernel_size), s.stride, s.pads, s.dilation)

    def absorb(self, weights: dict[str, Array], factor: Array, offset: Array) -> dict[str, Array]:
        """Filters times the factor, bias too and shifted."""
        dtype = weights["kernel"].dtype
        bias = weights["bias"] * factor + offset
        return {"kernel": (weights["kernel"] * factor).astype(dtype), "bias": bias.astype(dtype)}

    def kernel(self, input_shape: Shape) -> str:
        """What it runs by for one image's input shape."""
        return kernel_for(self.settings, input_shape, self.kernels)

    @cached_property
    def _kernels(self) -> dict[Shape, str]:
        """By input shapes that were met: pieces ask for every batch."""
        return {}

    def _way(self, input_shape: Shape) -> str:
        if input_shape not in self._kernels:
            self._kernels[input_shape] = self.kernel(input_shape)
        return self._kernels[input_shape]

    def start(
        self, input_shape: Shape, rng: np.random.Generator, dtype: Dtype, initialisation: InitialisationSettings
    ) -> dict[str, Array]:
        """As asked, zero bias."""
        shapes = self.settings.weight_shapes(input_shape)
        area = product(both(self.settings.kernel_size))
        fans = area * shapes["kernel"][2], area * self.settings.filters // self.settings.groups
        return {
            "kernel": initial_weights(initialisation, shapes["kernel"], *fans, rng, dtype),
            "bias": np.zeros(shapes["bias"], dtype),
        }

    def prepare(self, weights: dict[str, Array], input_shape: Shape) -> Tiles | Filters | None:
        """The filters as the kernel reads them; None where it reads them as they are."""
        way = self._way(input_shape)
        if way == "tiles":
            return self._tiles(weights["kernel"])
        return ready(weights["kernel"], self.window) if way == "direct" and self.settings.groups == 1 else None

    def _tiles(self, kernel: Array) -> Tiles:
        return Tiles(tiles.transformed(kernel), tiles.transformed(tiles.turned(kernel)))

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Seen]:
        """N×OH×OW×F; keeps the input and the transformed filters."""
        kernel, bias = weights["kernel"], weights["bias"]
        way = self._way(inputs.shape[1:])
        if way == "tiles":
            transformed = call.ready if isinstance(call.ready, Tiles) else self._tiles(kernel)
            rows, columns, _ = self.settings.output_shape(inputs.shape[1:])
            before = self.settings.pads[0][0]
            inputs = np.ascontiguousarray(inputs)
            out = tiles.convolve(inputs, transformed.forward, before, rows, columns, bias, call.activate)
            return out, (inputs, transformed)
        if way == "depthwise":
            out = self._depthwise(inputs, kernel)
            add_bias(out.reshape(-1, out.shape[3]), bias, call.activate)
        elif self.settings.groups > 1:
            parts = zip(self._by_group(inputs), np.split(kernel, self.settings.groups, axis=3), strict=True)
            out = np.concatenate([convolve(part, filters, self.window) for part, filters in parts], axis=3)
            add_bias(out.reshape(-1, out.shape[3]), bias, call.activate)
        else:
            filters = call.ready if isinstance(call.ready, Filters) else None
            return convolve(inputs, kernel, self.window, bias, call.activate, filters), (inputs, filters)
        return out, (inputs, None)

    def backward(
        self,
        grad: Array,
        saved: Seen,
        weights: dict[str, Array],
        need_inputs: bool,
        need_weights: bool,
    ) -> tuple[Array | None, dict[str, Array]]:
        """By the kernel that ran forward."""
        inputs, filters = saved
        kernel = weights["kernel"]
        grad = np.ascontiguousarray(grad)
        gradients: dict[str, Array] = {"bias": _summed(grad)} if need_weights else {}
        rows, columns = inputs.shape[1:3]
        if isinstance(filters, Tiles):
            before = self.settings.pads[0][0]
            if need_weights and weights_by_tiles(inputs.shape[3], grad.shape[3], grad.shape[1] * grad.shape[2]):
                gradients["kernel"] = tiles.filter_gradient(inputs, grad, before)
            elif need_weights:
                gradients["kernel"] = weight_gradient(inputs, grad, self.window)
            if not need_inputs:
                return None, gradients
            return tiles.convolve(grad, filters.turned, 2 - before, rows, columns, None, False), gradients
        if self._way(inputs.shape[1:]) == "depthwise":
            to_images, to_kernel = self._depthwise_backward(inputs, kernel, grad)
            if need_weights:
                gradients["kernel"] = to_kernel
            return (to_images if need_inputs else None), gradients
        if self.settings.groups > 1:
            return self._grouped_backward(inputs, kernel, grad, need_inputs, gradients if need_weights else None)
        if need_weights:
            gradients["kernel"] = weight_gradient(inputs, grad, self.window)
        if not need_inputs:
            return None, gradients
        return input_gradient(grad, kernel, self.window, rows, columns, filters), gradients

    def _by_group(self, maps: Array) -> list[Array]:
        return [np.ascontiguousarray(part) for part in np.split(maps, self.settings.groups, axis=3)]

    def _grouped_backward(
        self, inputs: Array, kernel: Array, grad: Array, need_inputs: bool, gradients: dict[str, Array] | None
    ) -> tuple[Array | None, dict[str, Array]]:
        images, grads = self._by_group(inputs), self._by_group(grad)
        if gradients is not None:
            pairs = zip(images, grads, strict=True)
            gradients["kernel"] = np.concatenate([weight_gradient(a, g, self.window) for a, g in pairs], axis=3)
        if not need_inputs:
            return None, gradients or {}
        rows, columns = inputs.shape[1:3]
        kernels = np.split(kernel, self.settings.groups, axis=3)
        onward = [input_gradient(g, k, self.window, rows, columns) for g, k in zip(grads, kernels, strict=True)]
        return np.concatenate(onward, axis=3), gradients or {}

    @property
    def _before(self) -> tuple[int, int]:
        """Zeros before the first row and the first column."""
        (top, _), (left, _) = self.settings.pads
        return top, left

    def _depthwise(self, inputs: Array, kernel: Array) -> Array:
        """Without the bias; several filters a channel look at its copies."""
        s = self.settings
        times = s.filters // s.groups
        out = np.zeros((len(inputs), *s.output_shape(inputs.shape[1:])), inputs.dtype)
        images = np.repeat(inputs, times, axis=3) if times > 1 else np.ascontiguousarray(inputs)
        depthwise(images, np.ascontiguousarray(kernel[:, :, 0]), s.stride, self._before, s.dilation, out)
        return out

    def _depthwise_backward(self, inputs: Array, kernel: Array, grad: Array) -> tuple[Array, Array]:
        s = self.settings
        times = s.filters // s.groups
        images = np.repeat(inputs, times, axis=3) if times > 1 else np.ascontiguousarray(inputs)
        filters = np.ascontiguousarray(kernel[:, :, 0])
        to_images, to_kernel = np.zeros_like(images), np.zeros_like(filters)
        depthwise_backward(images, filters, s.stride, self._before, s.dilation, grad, to_images, to_kernel)
        if times > 1:
            to_images = to_images.reshape(*inputs.shape, times).sum(axis=4)
        return to_images, to_kernel[:, :, None]


def _summed(grad: Array) -> Array:
    """Sum of each channel, as a product with ones: in one pass."""
    flat = grad.reshape(-1, grad.shape[3])
    ones = scratch("ones", (len(flat),), grad.dtype)
    ones[...] = 1
    return np.dot(ones, flat)


CONVOLUTIONS: dict[str, type[AnyLayer]] = {
    "convolution": ConvolutionLayer,
}
