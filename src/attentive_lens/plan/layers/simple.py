"""Settings of the layers that silence or only rearrange what comes in."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.layers.base import LayerSettings, SameShape, Shape, product
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Dropout(SameShape):
    """Silences a random part of the values, or of the channels, while training."""

    title: ClassVar[str] = "dropout"
    kind: ClassVar[str] = "dropout"
    idea: ClassVar[str] = "Silences a random part of the values at each training step, against over-fitting."

    share: float = spec(0.5, label="silences", low=0.0, high=0.95, meaning="Part of the values set to zero, 0 to 0.95.")
    whole: str = spec(
        "values", label="of its", choices=("values", "channels"), meaning="Single values, or whole feature maps."
    )


@dataclass(frozen=True)
class Flatten(LayerSettings):
    """Lays all feature maps out as one row of values."""

    title: ClassVar[str] = "flatten"
    kind: ClassVar[str] = "flatten"
    idea: ClassVar[str] = "Lays all feature maps out as one row of values; where things stand becomes position."

    def output_shape(self, given: Shape, *others: Shape) -> Shape:
        """(values,)."""
        return (product(given),)

    def reach(self, given: Shape) -> None:
        """From here on, every value sees all of the image that any did."""
        return
