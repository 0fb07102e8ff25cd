"""Codes, and the images that are drawn from them."""

from __future__ import annotations

import math

import numpy as np

from attentive_lens.engine.arrays import Array, Dtype
from attentive_lens.engine.layers.base import AnyLayer, Call, Layer
from attentive_lens.plan.initialisations import InitialisationSettings
from attentive_lens.plan.layers import Codes, Drawing, NormalCodes, Reshape, Shape
from attentive_lens.plan.layers.base import both


class CodesLayer(Layer[Codes, Array, None]):
    """The values that come in."""

    keeps_output = True  # its output is its input

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, None]:
        """N×V as given."""
        return inputs, None

    def backward(
        self, grad: Array, saved: None, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """As given."""
        return grad, {}


class NormalCodesLayer(Layer[NormalCodes, Array, tuple[Array, Array] | None]):
    """mean + noise · e^(log variance / 2) while training (Kingma & Welling 2014, section 2.4), the mean otherwise."""

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, tuple[Array, Array] | None]:
        """N×D from N×2D, or (N · samples)×D: all samples of an image in a row; keeps noise and deviations."""
        size = inputs.shape[1] // 2
        mean = inputs[:, :size]
        if call.context is None:
            return np.ascontiguousarray(mean), None
        samples = self.settings.samples
        noise = call.context.random_generator(f"codes of {self.name}").standard_normal(
            (len(inputs), samples, size), np.float32
        )
        noise = noise.astype(inputs.dtype, copy=False)
        deviations = np.exp(inputs[:, size:] / 2)
        codes = mean[:, None] + noise * deviations[:, None]
        return codes.reshape(-1, size), (noise, deviations)

    def backward(
        self,
        grad: Array,
        saved: tuple[Array, Array] | None,
        weights: dict[str, Array],
        need_inputs: bool,
        need_weights: bool,
    ) -> tuple[Array | None, dict[str, Array]]:
        """Sums over an image's samples: of the gradient, and of gradient · noise · deviation / 2."""
        if saved is None:
            return np.concatenate([grad, np.zeros_like(grad)], axis=1), {}
        noise, deviations = saved
        grad = grad.reshape(noise.shape)
        by_deviation = (grad * noise).sum(axis=1) * deviations * np.asarray(0.5, grad.dtype)
        return np.concatenate([grad.sum(axis=1), by_deviation], axis=1), {}


class ReshapeLayer(Layer[Reshape, Array, Shape]):
    """A row of values as maps, and back."""

    keeps_output = True  # its output is a view of its input

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Shape]:
        """N×H×W×C; keeps the shape."""
        return inputs.reshape(len(inputs), *both(self.settings.side), -1), inputs.shape

    def backward(
        self, grad: Array, saved: Shape, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """Back to the shape that came in."""
        return grad.reshape(saved), {}


class DrawingLayer(Layer[Drawing, Array, Shape]):
    """What is drawn, before a sigmoid holds it within 0–1; its variance is learned by the likelihood's gradient."""

    keeps_output = True  # its output is a view of its input

    def start(
        self, input_shape: Shape, rng: np.random.Generator, dtype: Dtype, initialisation: InitialisationSettings
    ) -> dict[str, Array]:
        """The logarithm of the variance, where it is learned."""
        if not self.settings.learns_variance:
            return {}
        return {"log_variance": np.full(1, 2 * math.log(self.settings.deviation), dtype)}

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Shape]:
        """N×H×W×C; keeps the shape."""
        return inputs.reshape(len(inputs), *self.settings.output_shape(inputs.shape[1:])), inputs.shape

    def backward(
        self, grad: Array, saved: Shape, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """Back to the shape that came in; see `engine.likelihoods` for the variance's gradient."""
        return grad.reshape(saved), {}


CODING: dict[str, type[AnyLayer]] = {
    "codes": CodesLayer,
    "normal codes": NormalCodesLayer,
    "reshape": ReshapeLayer,
    "drawing": DrawingLayer,
}
