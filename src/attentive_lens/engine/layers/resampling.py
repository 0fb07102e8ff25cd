"""Enlarging maps: resampling, and convolution run backward."""

from __future__ import annotations

import numpy as np

from attentive_lens.engine.arrays import Array, Dtype
from attentive_lens.engine.initialisation import initial_weights
from attentive_lens.engine.kernels.direct import Window, convolve, input_gradient, weight_gradient
from attentive_lens.engine.layers.base import AnyLayer, Call, Layer
from attentive_lens.plan.initialisations import InitialisationSettings
from attentive_lens.plan.layers import Resampling, Shape, TransposedConvolution


class ResamplingLayer(Layer[Resampling, Array, Shape]):
    """Pixels repeated, or blended between their centres; at the border the last pixel is repeated."""

    def _matrix(self, side: int, dtype: Dtype) -> Array:
        """side·factor × side weights of one axis."""
        factor = self.settings.factor
        at = (np.arange(side * factor) + 0.5) / factor - 0.5
        matrix = np.zeros((side * factor, side), dtype)
        rows = np.arange(side * factor)
        at = at.clip(0, side - 1)
        left = np.minimum(at.astype(int), max(0, side - 2))
        np.add.at(matrix, (rows, left), 1 - (at - left))
        np.add.at(matrix, (rows, np.minimum(left + 1, side - 1)), at - left)
        return matrix

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Shape]:
        """N×H·factor×W·factor×C; keeps the input's shape."""
        n, rows, columns, channels = inputs.shape
        factor = self.settings.factor
        if self.settings.interpolation == "nearest":
            wide = np.broadcast_to(inputs[:, :, None, :, None], (n, rows, factor, columns, factor, channels))
            return wide.reshape(n, rows * factor, columns * factor, channels), inputs.shape
        down, across = (self._matrix(side, inputs.dtype) for side in inputs.shape[1:3])
        return np.einsum("yh,xw,nhwc->nyxc", down, across, inputs, optimize=True), inputs.shape

    def backward(
        self, grad: Array, saved: Shape, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """The transposed weights."""
        factor = self.settings.factor
        if self.settings.interpolation == "nearest":
            places = [(row, column) for row in range(factor) for column in range(factor)]
            total = np.zeros(saved, grad.dtype)
            for row, column in places:
                total += grad[:, row::factor, column::factor]
            return total, {}
        down, across = (self._matrix(side, grad.dtype) for side in saved[1:3])
        return np.ascontiguousarray(np.einsum("yh,xw,nyxc->nhwc", down, across, grad, optimize=True)), {}


class TransposedConvolutionLayer(Layer[TransposedConvolution, Array, Array]):
    """The gradient of a convolution by its input, used forward (Dumoulin & Visin 2016, chapter 4)."""

    @property
    def _window(self) -> Window:
        before, after = self.settings.pads
        return Window.square(self.settings.kernel_size, self.settings.stride, before, after)

    def start(
        self, input_shape: Shape, rng: np.random.Generator, dtype: Dtype, initialisation: InitialisationSettings
    ) -> dict[str, Array]:
        """As asked, for the inputs that reach one output pixel; zero bias."""
        shapes = self.settings.weight_shapes(input_shape)
        k, s = self.settings.kernel_size, self.settings.stride
        fan_in = max(1, k * k * input_shape[2] // (s * s))
        kernel = initial_weights(initialisation, shapes["kernel"], fan_in, k * k * self.settings.filters, rng, dtype)
        return {"kernel": kernel, "bias": np.zeros(shapes["bias"], dtype)}

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Array]:
        """N×H·stride×W·stride×F; keeps the input."""
        rows, columns, _ = self.settings.output_shape(inputs.shape[1:])
        out = input_gradient(inputs, weights["kernel"], self._window, rows, columns)
        out += weights["bias"]
        return out, inputs

    def backward(
        self, grad: Array, saved: Array, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """The convolution itself, and its weight gradient with the parts changed over."""
        grad = np.ascontiguousarray(grad)
        gradients: dict[str, Array] = {}
        if need_weights:
            gradients = {"kernel": weight_gradient(grad, saved, self._window), "bias": grad.sum(axis=(0, 1, 2))}
        return (convolve(grad, weights["kernel"], self._window) if need_inputs else None), gradients


RESAMPLINGS: dict[str, type[AnyLayer]] = {
    "resampling": ResamplingLayer,
    "transposed convolution": TransposedConvolutionLayer,
}
