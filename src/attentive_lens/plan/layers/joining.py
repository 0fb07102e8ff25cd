"""Settings of the layers that take several inputs."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.layers.base import DoesNotFit, LayerSettings, Shape, text


@dataclass(frozen=True)
class Add(LayerSettings):
    """Sum of maps of one shape."""

    kind: ClassVar[str] = "add"
    idea: ClassVar[str] = "Adds maps of one shape: a short cut past other layers (residual connection)."
    joins: ClassVar[bool] = True

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """As given."""
        for other in others:
            if other != input_shape:
                raise DoesNotFit(
                    "The sum does not fit",
                    f"its inputs are {text(input_shape)} and {text(other)}, and only equal shapes can be added",
                    "Bring them to one shape, for example by a 1×1 convolution with the same stride",
                )
        return input_shape


@dataclass(frozen=True)
class Multiply(LayerSettings):
    """Product of maps, or of maps with one factor a channel."""

    kind: ClassVar[str] = "multiply"
    idea: ClassVar[str] = "Multiplies maps of one shape, or every map by its own factor (a gate)."
    joins: ClassVar[bool] = True

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """As the first input, the others being the same or one value a channel of it."""
        for other in others:
            if other not in (input_shape, (input_shape[-1],)):
                raise DoesNotFit(
                    "The product does not fit",
                    f"{text(input_shape)} takes factors of {text(input_shape)} or {input_shape[-1]} values, and gets"
                    f" {text(other)}",
                    "Name the maps first, and bring the factors to one a channel",
                )
        return input_shape


@dataclass(frozen=True)
class Concatenate(LayerSettings):
    """Channels of all inputs, one after the other."""

    kind: ClassVar[str] = "concatenate"
    idea: ClassVar[str] = "Lays the channels of several maps behind each other (dense connections, branches)."
    joins: ClassVar[bool] = True

    def output_channels(self, *inputs: int | None) -> int | None:
        """All together."""
        known = [count for count in inputs if count is not None]
        return sum(known) if len(known) == len(inputs) else None

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """Rows and columns as given, channels summed."""
        for other in others:
            if other[:-1] != input_shape[:-1]:
                raise DoesNotFit(
                    "The maps cannot be joined",
                    f"{text(input_shape)} and {text(other)} do not have the same rows and columns",
                    "Bring them to the same rows and columns first",
                )
        return (*input_shape[:-1], sum(shape[-1] for shape in (input_shape, *others)))


JOINING: tuple[type[LayerSettings], ...] = (
    Add,
    Multiply,
    Concatenate,
)
