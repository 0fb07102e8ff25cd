"""Add, multiply, concatenate."""

from __future__ import annotations

import numpy as np

from attentive_lens.engine.arrays import Array, Inputs
from attentive_lens.engine.layers.base import AnyLayer, Call, Layer
from attentive_lens.plan.layers import Add, Concatenate, Multiply


class AddLayer(Layer[Add, Inputs, int]):
    """Sum of all inputs."""

    def forward(self, inputs: Inputs, weights: dict[str, Array], call: Call) -> tuple[Array, int]:
        """As each input in shape; keeps how many there were."""
        out = inputs[0] + inputs[1]
        for more in inputs[2:]:
            out += more
        return out, len(inputs)

    def backward(
        self, grad: Array, saved: int, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Inputs | None, dict[str, Array]]:
        """The gradient itself for each; all but the first a copy, for a gradient may be changed in place."""
        return (grad, *(grad.copy() for _ in range(saved - 1))), {}


class MultiplyLayer(Layer[Multiply, Inputs, Inputs]):
    """Product of all inputs; one value a channel is a factor for the whole map."""

    def forward(self, inputs: Inputs, weights: dict[str, Array], call: Call) -> tuple[Array, Inputs]:
        """As the first input in shape; keeps the inputs."""
        out = inputs[0] * _spread(inputs[1], inputs[0])
        for more in inputs[2:]:
            out *= _spread(more, inputs[0])
        return out, inputs

    def backward(
        self, grad: Array, saved: Inputs, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Inputs | None, dict[str, Array]]:
        """Times the product of the others; summed over the map where one factor served all of it."""
        gradients = []
        for k, values in enumerate(saved):
            part = grad
            for other, factor in enumerate(saved):
                if other != k:
                    part = part * _spread(factor, saved[0])
            gradients.append(part.sum(axis=tuple(range(1, part.ndim - 1))) if values.ndim < part.ndim else part)
        return tuple(gradients), {}


class ConcatenateLayer(Layer[Concatenate, Inputs, list[int]]):
    """Channels of all inputs in their order."""

    def forward(self, inputs: Inputs, weights: dict[str, Array], call: Call) -> tuple[Array, list[int]]:
        """N×H×W×ΣC; keeps the numbers of channels."""
        return np.concatenate(inputs, axis=-1), [part.shape[-1] for part in inputs]

    def backward(
        self, grad: Array, saved: list[int], weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Inputs | None, dict[str, Array]]:
        """Each input's own channels."""
        edges = np.cumsum(saved)[:-1]
        return tuple(np.ascontiguousarray(part) for part in np.split(grad, edges, axis=-1)), {}


def _spread(values: Array, like: Array) -> Array:
    """N×C as N×1×1×C where the maps have rows and columns."""
    return values if values.ndim == like.ndim else values[:, None, None, :]


JOINING: dict[str, type[AnyLayer]] = {
    "add": AddLayer,
    "multiply": MultiplyLayer,
    "concatenate": ConcatenateLayer,
}
