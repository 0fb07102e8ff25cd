"""Settings of the layers that keep or only rearrange what comes in."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.layers.base import LayerSettings, Shape, product
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Relu(LayerSettings):
    """Passes what is positive and stops the rest."""

    title: ClassVar[str] = "relu"
    kind: ClassVar[str] = "relu"
    idea: ClassVar[str] = "Passes positive values and sets the others to zero (rectified linear unit)."

    def output_shape(self, given: Shape) -> Shape:
        """As given."""
        return given


@dataclass(frozen=True)
class Dropout(LayerSettings):
    """Silences a random part of the values while training."""

    title: ClassVar[str] = "dropout"
    kind: ClassVar[str] = "dropout"
    idea: ClassVar[str] = "Silences a random part of the values at each training step, against over-fitting."

    share: float = spec(0.5, label="silences", low=0.0, high=0.95, meaning="Part of the values set to zero, 0 to 0.95.")

    def output_shape(self, given: Shape) -> Shape:
        """As given."""
        return given


@dataclass(frozen=True)
class Flatten(LayerSettings):
    """Lays all feature maps out as one row of values."""

    title: ClassVar[str] = "flatten"
    kind: ClassVar[str] = "flatten"
    idea: ClassVar[str] = "Lays all feature maps out as one row of values; where things stand becomes position."

    def output_shape(self, given: Shape) -> Shape:
        """(values,)."""
        return (product(given),)

    def reach(self) -> None:
        """From here on, every value sees all of the image that any did."""
        return
