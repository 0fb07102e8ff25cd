"""The weight initialisations' settings. To add one: a class and a line here, a function and a line in the engine."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import Kind, spec


@dataclass(frozen=True)
class InitialisationSettings(Kind):
    """Base of the initialisations' settings."""

    section: ClassVar[str] = "initialisation"


@dataclass(frozen=True)
class He(InitialisationSettings):
    """For ReLU."""

    kind: ClassVar[str] = "he"
    idea: ClassVar[str] = "Normal, variance 2 / fan-in: keeps the size of activations through layers with ReLU."


@dataclass(frozen=True)
class Glorot(InitialisationSettings):
    """For tanh and sigmoid."""

    kind: ClassVar[str] = "glorot"
    idea: ClassVar[str] = "Uniform, by fan-in and fan-out: keeps the size of activations and gradients alike."


@dataclass(frozen=True)
class Orthogonal(InitialisationSettings):
    """At right angles."""

    kind: ClassVar[str] = "orthogonal"
    idea: ClassVar[str] = "Rows or columns at right angles: keeps lengths through very deep networks."

    gain: float = spec(1.4142135623730951, label="gain", low=0.001, high=100.0, meaning="Length of the rows; √2 suits ReLU.", ends="Usual: √2 with ReLU, 1 without. Less fades signals layer by layer, more lets them grow.",)  # fmt: skip  # noqa: E501


@dataclass(frozen=True)
class Normal(InitialisationSettings):
    """Whatever the fan."""

    kind: ClassVar[str] = "normal"
    idea: ClassVar[str] = "Normal with one standard deviation for every layer."

    std: float = spec(
        0.01,
        label="standard deviation",
        low=0.0,
        high=10.0,
        meaning="Of the weights drawn, about 0.",
        ends="Usual: 0.01 to 0.05. Near 0 deep networks give nothing back; large ones begin saturated.",
    )
    scale_std: float = spec(
        0.0,
        label="deviation of scales",
        low=0.0,
        high=10.0,
        meaning="Of the scales of batch normalisations, about 1.",
        ends="Usual: 0, or 0.02 in networks that draw. Large ones begin with some maps switched off.",
    )


@dataclass(frozen=True)
class Constant(InitialisationSettings):
    """All the same."""

    kind: ClassVar[str] = "constant"
    idea: ClassVar[str] = "All weights the same: only for looking at what symmetry does, for filters then stay alike."

    value: float = spec(
        0.01,
        label="value",
        low=-10.0,
        high=10.0,
        meaning="Every weight.",
        ends="For trials: with equal weights all units of a layer stay equal.",
    )


INITIALISATIONS: dict[str, type[InitialisationSettings]] = {
    way.kind: way for way in (He, Glorot, Orthogonal, Normal, Constant)
}
