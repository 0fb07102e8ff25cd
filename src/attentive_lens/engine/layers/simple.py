"""Dropout and flatten."""

from __future__ import annotations

from typing import Any

import numpy as np

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.layers.base import Call, Layer
from attentive_lens.plan.layers import Dropout, Flatten


class DropoutLayer(Layer[Dropout]):
    """Inverted dropout (Srivastava 2014, section 10): what stays is scaled up, so inference needs nothing.

    Of whole channels, one lot for each map of each image (Tompson 2015, section 3.2).
    """

    keeps_output = True  # at inference its output is its input

    def forward(self, given: Any, weights: dict[str, Array], call: Call) -> tuple[Array, Any]:
        """As given in shape; keeps the factors, 0 or 1 / (1 − share)."""
        share = self.settings.share
        if call.moment is None or share == 0:
            return given, None
        shape = given.shape
        if self.settings.whole == "channels":
            shape = (shape[0], *(1 for _ in shape[1:-1]), shape[-1])
        drawn = call.moment.chance(f"dropout of {self.name}").random(shape, np.float32)
        factors = (drawn >= share).astype(given.dtype) / np.asarray(1 - share, given.dtype)
        return given * factors, factors

    def backward(
        self, grad: Array, kept: Any, weights: dict[str, Array], inputs: bool, parameters: bool
    ) -> tuple[Any, dict[str, Array]]:
        """The same factors."""
        return (grad if kept is None else grad * kept), {}


class FlattenLayer(Layer[Flatten]):
    """Rows, columns and channels in one row, in that order."""

    keeps_output = True  # its output is a view of its input

    def forward(self, given: Any, weights: dict[str, Array], call: Call) -> tuple[Array, Any]:
        """N×V; keeps the shape."""
        return given.reshape(len(given), -1), given.shape

    def backward(
        self, grad: Array, kept: Any, weights: dict[str, Array], inputs: bool, parameters: bool
    ) -> tuple[Any, dict[str, Array]]:
        """Back to the shape that came in."""
        return grad.reshape(kept), {}
