"""Fully connected layers."""

from __future__ import annotations

import numpy as np

from attentive_lens.engine.arrays import Array, Dtype
from attentive_lens.engine.initialisation import initial_weights
from attentive_lens.engine.layers.base import AnyLayer, Call, Layer
from attentive_lens.plan.initialisations import InitialisationSettings
from attentive_lens.plan.layers import Connected, Shape


class ConnectedLayer(Layer[Connected, Array, Array]):
    """Inputs times a matrix, plus a bias."""

    can_activate = True

    def start(
        self, input_shape: Shape, rng: np.random.Generator, dtype: Dtype, initialisation: InitialisationSettings
    ) -> dict[str, Array]:
        """As asked, zero bias; the output's weights a tenth of that, so that the first loss is about ln K."""
        shapes = self.settings.weight_shapes(input_shape)
        share = 0.1 if self.settings.is_output else 1.0
        matrix = initial_weights(initialisation, shapes["matrix"], input_shape[0], self.settings.units, rng, dtype)
        return {"matrix": matrix * np.asarray(share, dtype), "bias": np.zeros(shapes["bias"], dtype)}

    def absorb(self, weights: dict[str, Array], factor: Array, offset: Array) -> dict[str, Array]:
        """The matrix's columns times the factor, bias too and shifted."""
        dtype = weights["matrix"].dtype
        bias = weights["bias"] * factor + offset
        return {"matrix": (weights["matrix"] * factor).astype(dtype), "bias": bias.astype(dtype)}

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Array]:
        """N×units; keeps the input."""
        out = inputs @ weights["matrix"]
        out += weights["bias"]
        if call.activate:
            np.maximum(out, 0, out=out)
        return out, inputs

    def backward(
        self, grad: Array, saved: Array, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """Matrix products with the transposed factors."""
        gradients = {"matrix": saved.T @ grad, "bias": grad.sum(axis=0)} if need_weights else {}
        return (grad @ weights["matrix"].T if need_inputs else None), gradients


CONNECTED: dict[str, type[AnyLayer]] = {
    "fully connected": ConnectedLayer,
    "output": ConnectedLayer,
}
