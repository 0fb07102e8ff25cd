"""Dropout and flatten."""

from __future__ import annotations

import numpy as np

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.layers.base import AnyLayer, Call, Layer
from attentive_lens.plan.layers import Dropout, Flatten, Shape


class DropoutLayer(Layer[Dropout, Array, Array | None]):
    """Inverted dropout (Srivastava 2014, section 10): what stays is scaled up, so inference needs nothing.

    Of whole channels, one lot for each map of each image (Tompson 2015, section 3.2).
    """

    keeps_output = True  # at inference its output is its input

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Array | None]:
        """As given in shape; keeps the factors, 0 or 1 / (1 − rate)."""
        rate = self.settings.rate
        if call.context is None or rate == 0:
            return inputs, None
        shape = inputs.shape
        if self.settings.unit == "channel":
            shape = (shape[0], *(1 for _ in shape[1:-1]), shape[-1])
        drawn = call.context.random_generator(f"dropout of {self.name}").random(shape, np.float32)
        factors = (drawn >= rate).astype(inputs.dtype) / np.asarray(1 - rate, inputs.dtype)
        return inputs * factors, factors

    def backward(
        self, grad: Array, saved: Array | None, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """The same factors."""
        return (grad if saved is None else grad * saved), {}


class FlattenLayer(Layer[Flatten, Array, Shape]):
    """Rows, columns and channels in one row, in that order."""

    keeps_output = True  # its output is a view of its input

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Shape]:
        """N×V; keeps the shape."""
        return inputs.reshape(len(inputs), -1), inputs.shape

    def backward(
        self, grad: Array, saved: Shape, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """Back to the shape that came in."""
        return grad.reshape(saved), {}


SIMPLE: dict[str, type[AnyLayer]] = {
    "dropout": DropoutLayer,
    "flatten": FlattenLayer,
}
