"""Settings of the activations: what is done to every value by itself, and softmax."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.plan.layers.base import LayerSettings, SameShape, Shape


@dataclass(frozen=True)
class Relu(SameShape):
    """Passes what is positive and stops the rest."""

    kind: ClassVar[str] = "relu"
    is_rectifier: ClassVar[bool] = True
    idea: ClassVar[str] = "Passes positive values and sets the others to zero (rectified linear unit)."


@dataclass(frozen=True)
class LeakyRelu(SameShape):
    """Passes what is positive and a little of the rest."""

    kind: ClassVar[str] = "leaky relu"
    idea: ClassVar[str] = "Passes positive values and a small part of the negative ones, so that no unit dies."

    negative_slope: float = spec(
        0.01,
        label="negative slope",
        low=0.0001,
        high=1.0,
        meaning="Factor of negative values.",
        ends="Usual: 0.01 to 0.2. Near 0 it is ReLU, whose units can die; at 1 it is no activation any more.",
    )


@dataclass(frozen=True)
class ParametricRelu(SameShape):
    """Passes what is positive, and of the rest a part that is learned."""

    kind: ClassVar[str] = "parametric relu"
    idea: ClassVar[str] = "Passes positive values and a learned part of the negative ones (a slope for each channel)."

    initial_slope: float = spec(
        0.25,
        label="initial slope",
        low=0.0,
        high=1.0,
        meaning="Factor of negative values before training.",
        ends="Usual: 0.25. At 0 it begins as ReLU; at 1 as no activation at all.",
    )
    shared: bool = spec(False, label="one slope", meaning="Whether all channels share one slope.")

    def weight_shapes(self, input_shape: Shape) -> dict[str, Shape]:
        """``slope``: C, or 1 where it is shared."""
        return {"slope": (1 if self.shared else input_shape[-1],)}


@dataclass(frozen=True)
class Clip(SameShape):
    """Holds every value between two limits."""

    kind: ClassVar[str] = "clip"
    idea: ClassVar[str] = "Holds every value between two limits: from 0 to 6 a clipped ReLU, from 0 to 1 a hard gate."

    low: float = spec(
        0.0,
        label="lower limit",
        low=-1e6,
        high=1e6,
        meaning="What is less becomes this.",
        ends="Usual: 0. Far below it nothing is cut off there.",
    )
    high: float = spec(
        6.0,
        label="upper limit",
        low=-1e6,
        high=1e6,
        meaning="What is more becomes this.",
        ends="Usual: 6. Near the lower limit nearly all is cut off and units stop learning; far above, nothing is.",
    )


@dataclass(frozen=True)
class Elu(SameShape):
    """Exponential linear unit."""

    kind: ClassVar[str] = "elu"
    idea: ClassVar[str] = "Passes positive values and bends negative ones softly towards a floor (exponential unit)."

    alpha: float = spec(
        1.0,
        label="alpha",
        low=0.01,
        high=10.0,
        meaning="How far below zero it can go.",
        ends="Usual: 1. Near 0 it is ReLU; more lets values fall farther before they level out.",
    )


@dataclass(frozen=True)
class Gelu(SameShape):
    """Gaussian error linear unit."""

    kind: ClassVar[str] = "gelu"
    idea: ClassVar[str] = "Weighs every value by how likely a normal one lies below it: a smooth ReLU."


@dataclass(frozen=True)
class Silu(SameShape):
    """Sigmoid-weighted linear unit."""

    kind: ClassVar[str] = "silu"
    idea: ClassVar[str] = "Weighs every value by its own sigmoid: a smooth ReLU with a small dip."


@dataclass(frozen=True)
class Tanh(SameShape):
    """Hyperbolic tangent."""

    kind: ClassVar[str] = "tanh"
    idea: ClassVar[str] = "Bends every value into −1 to 1 (hyperbolic tangent)."


@dataclass(frozen=True)
class Sigmoid(SameShape):
    """Logistic function."""

    kind: ClassVar[str] = "sigmoid"
    idea: ClassVar[str] = "Bends every value into 0 to 1; good as a gate that multiplies maps."


@dataclass(frozen=True)
class Softmax(SameShape):
    """Shares of a whole, over the channels."""

    kind: ClassVar[str] = "softmax"
    idea: ClassVar[str] = (
        "Turns each pixel’s channels into shares that sum to 1; the output layer needs none, the loss has it."
    )


ACTIVATIONS: tuple[type[LayerSettings], ...] = (
    Relu,
    LeakyRelu,
    ParametricRelu,
    Clip,
    Elu,
    Gelu,
    Silu,
    Tanh,
    Sigmoid,
    Softmax,
)
