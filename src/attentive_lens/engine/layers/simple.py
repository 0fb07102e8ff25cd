"""ReLU, dropout and flatten."""

from __future__ import annotations

from typing import Any

import numpy as np

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.kernels.compiled import relu_backward
from attentive_lens.engine.layers.base import Layer, Moment
from attentive_lens.plan.layers import Dropout, Flatten, Relu


class ReluLayer(Layer[Relu]):
    """max(x, 0); its gradient is 1 above zero and 0 at and below it."""

    may_overwrite = True
    keeps_output = True

    def forward(
        self, given: Array, weights: dict[str, Array], moment: Moment | None, overwrite: bool
    ) -> tuple[Array, Any]:
        """As given in shape; keeps the output."""
        out = np.maximum(given, 0, out=given if overwrite else None)
        return out, out

    def backward(
        self, grad: Array, kept: Any, weights: dict[str, Array], inputs: bool, parameters: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """In place."""
        grad = np.ascontiguousarray(grad)
        relu_backward(grad.reshape(-1), kept.reshape(-1))
        return grad, {}


class DropoutLayer(Layer[Dropout]):
    """Inverted dropout (Srivastava 2014, section 10): what stays is scaled up, so inference needs nothing."""

    def forward(
        self, given: Array, weights: dict[str, Array], moment: Moment | None, overwrite: bool
    ) -> tuple[Array, Any]:
        """As given in shape; keeps the factors, 0 or 1 / (1 − share)."""
        share = self.settings.share
        if moment is None or share == 0:
            return given, None
        drawn = moment.chance(f"dropout of {self.name}").random(given.shape, np.float32)
        factors = (drawn >= share).astype(given.dtype) / np.asarray(1 - share, given.dtype)
        return given * factors, factors

    def backward(
        self, grad: Array, kept: Any, weights: dict[str, Array], inputs: bool, parameters: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """The same factors."""
        return (grad if kept is None else grad * kept), {}


class FlattenLayer(Layer[Flatten]):
    """Rows, columns and channels in one row, in that order."""

    keeps_output = True  # its output is a view of its input

    def forward(
        self, given: Array, weights: dict[str, Array], moment: Moment | None, overwrite: bool
    ) -> tuple[Array, Any]:
        """N×V; keeps the shape."""
        return given.reshape(len(given), -1), given.shape

    def backward(
        self, grad: Array, kept: Any, weights: dict[str, Array], inputs: bool, parameters: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """Back to the shape that came in."""
        return grad.reshape(kept), {}
