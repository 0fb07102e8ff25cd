"""Convolution."""

from __future__ import annotations

from typing import Any

import numpy as np

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.kernels.gather import Window, convolve, input_gradient, weight_gradient
from attentive_lens.engine.layers.base import Layer, Moment, he_weights
from attentive_lens.plan.layers import Convolution, Shape


class ConvolutionLayer(Layer[Convolution]):
    """Cross-correlation with learned filters, plus a bias per filter."""

    @property
    def window(self) -> Window:
        """The window and its padding."""
        before, after = self.settings.pads
        return Window(self.settings.kernel, self.settings.stride, before, after)

    def start(self, given: Shape, random: np.random.Generator, dtype: np.dtype[Any]) -> dict[str, Array]:
        """He weights, zero bias."""
        shapes = self.settings.weight_shapes(given)
        fan_in = self.settings.kernel**2 * given[2]
        return {
            "kernel": he_weights(shapes["kernel"], fan_in, random, dtype),
            "bias": np.zeros(shapes["bias"], dtype),
        }

    def forward(
        self, given: Array, weights: dict[str, Array], moment: Moment | None, overwrite: bool
    ) -> tuple[Array, Any]:
        """N×OH×OW×F; keeps the input."""
        return convolve(given, weights["kernel"], self.window, weights["bias"]), given

    def backward(
        self, grad: Array, kept: Any, weights: dict[str, Array], inputs: bool, parameters: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """By the same gathered products, see `kernels.gather`."""
        found: dict[str, Array] = {}
        if parameters:
            found["kernel"] = weight_gradient(kept, grad, self.window)
            found["bias"] = grad.sum(axis=(0, 1, 2))
        if not inputs:
            return None, found
        return input_gradient(grad, weights["kernel"], self.window, kept.shape[1], kept.shape[2]), found
