"""Fully connected layers."""

from __future__ import annotations

from typing import Any

import numpy as np

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.layers.base import Call, Layer
from attentive_lens.engine.starting import started
from attentive_lens.plan.layers import Answers, Connected, Shape


class ConnectedLayer(Layer[Connected]):
    """Inputs times a matrix, plus a bias."""

    can_activate = True

    def start(self, given: Shape, random: np.random.Generator, dtype: np.dtype[Any], how: str) -> dict[str, Array]:
        """As asked, zero bias; the answers' weights a tenth of that, so that the first loss is about ln K."""
        shapes = self.settings.weight_shapes(given)
        share = 0.1 if isinstance(self.settings, Answers) else 1.0
        matrix = started(how, shapes["matrix"], given[0], self.settings.units, random, dtype)
        return {"matrix": matrix * np.asarray(share, dtype), "bias": np.zeros(shapes["bias"], dtype)}

    def forward(self, given: Any, weights: dict[str, Array], call: Call) -> tuple[Array, Any]:
        """N×units; keeps the input."""
        out = given @ weights["matrix"]
        out += weights["bias"]
        if call.activate:
            np.maximum(out, 0, out=out)
        return out, given

    def backward(
        self, grad: Array, kept: Any, weights: dict[str, Array], inputs: bool, parameters: bool
    ) -> tuple[Any, dict[str, Array]]:
        """Matrix products with the transposed factors."""
        found = {"matrix": kept.T @ grad, "bias": grad.sum(axis=0)} if parameters else {}
        return (grad @ weights["matrix"].T if inputs else None), found
