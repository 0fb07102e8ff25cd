"""What images are drawn of, and where real ones come in beside them.

Who trains or draws puts noise, classes and real images in their places (``edited`` of `Network.forward`).
"""

from __future__ import annotations

import numpy as np

from attentive_lens.engine.arrays import Array, Inputs
from attentive_lens.engine.layers.base import AnyLayer, Call, Layer
from attentive_lens.plan.layers import ClassInput, Noise, RealOrDrawn


class NoiseLayer(Layer[Noise, Array, None]):
    """0, the middle of both distributions."""

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, None]:
        """N×size."""
        return np.zeros((len(inputs), self.settings.size), inputs.dtype), None

    def backward(
        self, grad: Array, saved: None, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """The image has no part in it."""
        return None, {}


class ClassInputLayer(Layer[ClassInput, Array, None]):
    """Every class alike: no class is known."""

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, None]:
        """N×K, each 1 / K."""
        classes = max(1, self.settings.classes)
        return np.full((len(inputs), classes), 1 / classes, inputs.dtype), None

    def backward(
        self, grad: Array, saved: None, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """The image has no part in it."""
        return None, {}


class RealOrDrawnLayer(Layer[RealOrDrawn, Inputs, int]):
    """The images drawn."""

    keeps_output = True  # its output is its input

    def forward(self, inputs: Inputs, weights: dict[str, Array], call: Call) -> tuple[Array, int]:
        """The last input, N×H×W×C; keeps how many there were."""
        return inputs[-1], len(inputs)

    def backward(
        self, grad: Array, saved: int, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Inputs | None, dict[str, Array]]:
        """As given, for the last input; the others have no part in it."""
        return (*(np.zeros_like(grad) for _ in range(saved - 1)), grad), {}


GENERATING: dict[str, type[AnyLayer]] = {
    "noise": NoiseLayer,
    "class": ClassInputLayer,
    "real or drawn": RealOrDrawnLayer,
}
