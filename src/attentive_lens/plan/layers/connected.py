"""Settings of fully connected layers, the last of which gives the scores."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Self

from attentive_lens.core.values import spec
from attentive_lens.plan.layers.base import DoesNotFit, LayerSettings, Shape, text


@dataclass(frozen=True)
class Connected(LayerSettings):
    """Every output weighs every input."""

    kind: ClassVar[str] = "fully connected"
    idea: ClassVar[str] = "Every output weighs every input value (dense layer)."

    units: int = spec(
        64,
        label="units",
        low=1,
        high=65536,
        meaning="How many values come out.",
        ends="Usual: 64 to 1024. Few are a narrow passage; many are most of the network's weights, and learn by heart.",
    )

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """(units,)."""
        if len(input_shape) != 1:
            raise DoesNotFit(
                f"The {self.kind} layer does not fit",
                f"it takes one row of values, and its input is {text(input_shape)}",
                "Put a flatten or a global pooling layer before it",
            )
        return (self.units,)

    def output_channels(self, *inputs: int | None) -> int | None:
        """Its units."""
        return self.units

    def weight_shapes(self, input_shape: Shape) -> dict[str, Shape]:
        """``matrix``: in×out; ``bias``: out."""
        return {"matrix": (input_shape[0], self.units), "bias": (self.units,)}

    def multiply_adds(self, input_shape: Shape) -> int:
        """One per weight."""
        return input_shape[0] * self.units

    def reach(self, input_shape: Shape) -> None:
        """It sees everything."""
        return


@dataclass(frozen=True)
class Output(Connected):
    """The last layer: one raw score a class, however many classes the images have."""

    kind: ClassVar[str] = "output"
    is_output: ClassVar[bool] = True
    idea: ClassVar[str] = "One raw score a class (logit); the loss decides what makes probabilities of them."

    units: int = spec(
        0,
        label="classes",
        low=0,
        high=65536,
        meaning="Filled in from the images' classes.",
        ends="Usual: left at 0; it is set to what the images need.",
    )

    def for_scores(self, units: int) -> Self:
        """With so many."""
        return self.with_(units=units)


CONNECTED: tuple[type[LayerSettings], ...] = (
    Connected,
    Output,
)
