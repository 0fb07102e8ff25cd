"""The activations: a value and a slope each."""

from __future__ import annotations

from abc import abstractmethod

import numpy as np

from attentive_lens.engine.arrays import Array, Dtype
from attentive_lens.engine.kernels.compiled import leaky_backward, relu_backward
from attentive_lens.engine.layers.base import AnyLayer, Call, Layer, S
from attentive_lens.engine.special import erf, expit
from attentive_lens.plan.initialisations import InitialisationSettings
from attentive_lens.plan.layers import (
    Clip,
    Elu,
    Gelu,
    LeakyRelu,
    ParametricRelu,
    Relu,
    Shape,
    Sigmoid,
    Silu,
    Softmax,
    Tanh,
)


class ReluLayer(Layer[Relu, Array, Array]):
    """max(x, 0); its gradient is 1 above zero and 0 at and below it."""

    may_overwrite = True
    keeps_output = True

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Array]:
        """As given in shape; keeps the output."""
        out = np.maximum(inputs, 0, out=inputs if call.overwrite else None)
        return out, out

    def backward(
        self, grad: Array, saved: Array, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """In place."""
        grad = np.ascontiguousarray(grad)
        relu_backward(grad.reshape(-1), saved.reshape(-1))
        return grad, {}


class Pointwise(Layer[S, Array, tuple[Array, Array]]):
    """Base of the smooth activations; keeps input and output."""

    keeps_output = True

    @abstractmethod
    def value(self, x: Array) -> Array:
        """f(x), a new array."""

    @abstractmethod
    def slope(self, x: Array, y: Array) -> Array:
        """f′(x), from x and y = f(x)."""

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, tuple[Array, Array]]:
        """As given in shape."""
        out = self.value(inputs).astype(inputs.dtype, copy=False)
        return out, (inputs, out)

    def backward(
        self, grad: Array, saved: tuple[Array, Array], weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """Times the slope."""
        return (grad * self.slope(*saved)).astype(grad.dtype, copy=False), {}


class LeakyReluLayer(Layer[LeakyRelu, Array, Array]):
    """x above zero, negative slope · x below (Maas 2013, section 2); the slope is at most 1, so it is the larger."""

    keeps_output = True

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Array]:
        """As given in shape; keeps the output."""
        out = inputs * np.asarray(self.settings.negative_slope, inputs.dtype)
        np.maximum(inputs, out, out=out)
        return out, out

    def backward(
        self, grad: Array, saved: Array, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """In place: 1 or the slope."""
        grad = np.ascontiguousarray(grad)
        leaky_backward(grad.reshape(-1), np.ascontiguousarray(saved).reshape(-1), self.settings.negative_slope)
        return grad, {}


class ParametricReluLayer(Layer[ParametricRelu, Array, Array]):
    """x above zero, a · x below, with a learned for each channel or for all (He 2015, «Delving deep», eq. 1)."""

    def start(
        self, input_shape: Shape, rng: np.random.Generator, dtype: Dtype, initialisation: InitialisationSettings
    ) -> dict[str, Array]:
        """The initial slope."""
        (count,) = self.settings.weight_shapes(input_shape)["slope"]
        return {"slope": np.full(count, self.settings.initial_slope, dtype)}

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Array]:
        """As given in shape; keeps the input."""
        return np.where(inputs > 0, inputs, inputs * weights["slope"]), inputs

    def backward(
        self, grad: Array, saved: Array, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """Σ G·x over what is negative to the slopes (eq. 3–4); G or a·G to the input."""
        negative = saved <= 0
        gradients: dict[str, Array] = {}
        if need_weights:
            by_channel = np.where(negative, grad * saved, 0).reshape(-1, saved.shape[-1]).sum(axis=0)
            total = by_channel.sum(keepdims=True) if self.settings.shared else by_channel
            gradients["slope"] = total.astype(grad.dtype, copy=False)
        return (np.where(negative, grad * weights["slope"], grad) if need_inputs else None), gradients


class ClipLayer(Pointwise[Clip]):
    """Between the limits as given, beyond them the limit."""

    def value(self, x: Array) -> Array:
        """min(max(x, low), high)."""
        return np.clip(x, np.asarray(self.settings.low, x.dtype), np.asarray(self.settings.high, x.dtype))

    def slope(self, x: Array, y: Array) -> Array:
        """1 between the limits, 0 beyond them."""
        return ((x > self.settings.low) & (x < self.settings.high)).astype(x.dtype)


class EluLayer(Pointwise[Elu]):
    """x above zero, α · (eˣ − 1) below (Clevert 2016, eq. 15)."""

    def value(self, x: Array) -> Array:
        """See the class."""
        return np.where(x > 0, x, np.asarray(self.settings.alpha, x.dtype) * np.expm1(np.minimum(x, 0)))

    def slope(self, x: Array, y: Array) -> Array:
        """1, or y + α."""
        return np.where(x > 0, np.asarray(1, x.dtype), y + np.asarray(self.settings.alpha, x.dtype))


class GeluLayer(Pointwise[Gelu]):
    """x · Φ(x), exactly, by the error function (Hendrycks & Gimpel 2016, section 2)."""

    def value(self, x: Array) -> Array:
        """See the class."""
        return np.asarray(x * 0.5 * (1 + erf(x * np.asarray(np.sqrt(0.5), x.dtype))))

    def slope(self, x: Array, y: Array) -> Array:
        """Φ(x) + x · φ(x)."""
        below = 0.5 * (1 + erf(x * np.asarray(np.sqrt(0.5), x.dtype)))
        return np.asarray(below + x * np.exp(-0.5 * x * x) * np.asarray(1 / np.sqrt(2 * np.pi), x.dtype))


class SiluLayer(Pointwise[Silu]):
    """x · σ(x) (Elfwing 2018, eq. 6)."""

    def value(self, x: Array) -> Array:
        """See the class."""
        return np.asarray(x * expit(x))

    def slope(self, x: Array, y: Array) -> Array:
        """σ · (1 + x · (1 − σ))."""
        gate = expit(x)
        return np.asarray(gate * (1 + x * (1 - gate)))


class TanhLayer(Pointwise[Tanh]):
    """tanh(x)."""

    def value(self, x: Array) -> Array:
        """See the class."""
        return np.tanh(x)

    def slope(self, x: Array, y: Array) -> Array:
        """1 − y²."""
        return np.asarray(1 - y * y)


class SigmoidLayer(Pointwise[Sigmoid]):
    """1 / (1 + e⁻ˣ)."""

    def value(self, x: Array) -> Array:
        """See the class."""
        return np.asarray(expit(x))

    def slope(self, x: Array, y: Array) -> Array:
        """Y · (1 − y)."""
        return np.asarray(y * (1 - y))


class SoftmaxLayer(Layer[Softmax, Array, Array]):
    """eˣ over its sum along the channels."""

    keeps_output = True

    def forward(self, inputs: Array, weights: dict[str, Array], call: Call) -> tuple[Array, Array]:
        """As given in shape; keeps the output."""
        powers = np.exp(inputs - inputs.max(axis=-1, keepdims=True))
        powers /= powers.sum(axis=-1, keepdims=True)
        return powers, powers

    def backward(
        self, grad: Array, saved: Array, weights: dict[str, Array], need_inputs: bool, need_weights: bool
    ) -> tuple[Array | None, dict[str, Array]]:
        """Y · (g − Σ g·y)."""
        return saved * (grad - (grad * saved).sum(axis=-1, keepdims=True)), {}


ACTIVATIONS: dict[str, type[AnyLayer]] = {
    "relu": ReluLayer,
    "leaky relu": LeakyReluLayer,
    "parametric relu": ParametricReluLayer,
    "clip": ClipLayer,
    "elu": EluLayer,
    "gelu": GeluLayer,
    "silu": SiluLayer,
    "tanh": TanhLayer,
    "sigmoid": SigmoidLayer,
    "softmax": SoftmaxLayer,
}
