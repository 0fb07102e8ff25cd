"""Max pooling."""

from __future__ import annotations

from typing import Any

import numpy as np

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.kernels.compiled import pool_backward, pool_forward
from attentive_lens.engine.layers.base import Layer, Moment
from attentive_lens.plan.layers import MaxPooling


class MaxPoolingLayer(Layer[MaxPooling]):
    """The greatest value of each window; of equal ones the first, row by row, receives the gradient."""

    def forward(
        self, given: Array, weights: dict[str, Array], moment: Moment | None, overwrite: bool
    ) -> tuple[Array, Any]:
        """N×OH×OW×C; keeps where each greatest value stood."""
        shape = (len(given), *self.settings.output_shape(given.shape[1:]))
        out = np.empty(shape, given.dtype)
        place = np.empty(shape, np.uint16)
        pool_forward(given, self.settings.window, self.settings.stride, out, place)
        return out, (place, given.shape)

    def backward(
        self, grad: Array, kept: Any, weights: dict[str, Array], inputs: bool, parameters: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """Each window's gradient goes to its greatest value."""
        if not inputs:
            return None, {}
        place, shape = kept
        out = np.zeros(shape, grad.dtype)
        pool_backward(np.ascontiguousarray(grad), place, self.settings.window, self.settings.stride, out)
        return out, {}
