"""Settings of the layers that silence or only rearrange what comes in."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.plan.layers.base import LayerSettings, SameShape, Shape, product


@dataclass(frozen=True)
class Dropout(SameShape):
    """Silences a random part of the values, or of the channels, while training."""

    kind: ClassVar[str] = "dropout"
    idea: ClassVar[str] = "Silences a random part of the values at each training step, against over-fitting."

    rate: float = spec(
        0.5,
        label="dropout rate",
        low=0.0,
        high=0.95,
        meaning="Part of the values set to zero, 0 to 0.95.",
        ends="Usual: 0.1 to 0.5. At 0 it does nothing; near its upper end too little is left to learn from.",
    )
    unit: str = spec(
        "value",
        label="drops",
        choices=("value", "channel"),
        meaning="Single values, or whole channels (spatial dropout).",
    )


@dataclass(frozen=True)
class Flatten(LayerSettings):
    """Lays all feature maps out as one row of values."""

    kind: ClassVar[str] = "flatten"
    idea: ClassVar[str] = "Lays all feature maps out as one row of values; where things stand becomes position."

    def output_channels(self, *inputs: int | None) -> int | None:
        """Not known without the maps' sides."""
        return None

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """(values,)."""
        return (product(input_shape),)

    def reach(self, input_shape: Shape) -> None:
        """From here on, every value sees all of the image that any did."""
        return


SIMPLE: tuple[type[LayerSettings], ...] = (
    Dropout,
    Flatten,
)
