"""Settings of pooling, windowed and global."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.layers.base import DoesNotFit, LayerSettings, Reach, Shape, text, windows
from attentive_lens.plan.values import spec

MEANS = ("average", "max", "power mean")


@dataclass(frozen=True)
class Pooling(LayerSettings):
    """Base of the poolings over a moving window."""

    needs_map: ClassVar[bool] = True

    window: int = spec(2, label="window", unit="pixels", low=1, high=31, meaning="Side of the window.")
    stride: int = spec(2, label="moves by", unit="pixels", low=1, high=31, meaning="Step of the window (stride).")

    def output_shape(self, given: Shape, *others: Shape) -> Shape:
        """(rows, columns, channels); pixels that fill no whole window at the edge are left out."""
        if min(given[0], given[1]) < self.window:
            raise DoesNotFit(
                "The pooling does not fit",
                f"pooling {text((self.window,) * 2)} needs at least {text((self.window,) * 2)}, gets {text(given[:2])}",
                "Take the layer out, or shrink less before it",
            )
        rows, columns = (windows(side, self.window, self.stride, 0, 0) for side in given[:2])
        return (rows, columns, given[2])

    def reach(self, given: Shape) -> Reach:
        """Its window."""
        return Reach(self.window, self.stride, 0)

    @property
    def told(self) -> str:
        """Window and step."""
        return f"{self.window}×{self.window} window, step {self.stride}"


@dataclass(frozen=True)
class MaxPooling(Pooling):
    """Keeps the strongest value of each window and so shrinks the maps."""

    title: ClassVar[str] = "max pooling"
    kind: ClassVar[str] = "max pooling"
    idea: ClassVar[str] = "Keeps the strongest value of each window: maps shrink, small shifts stop mattering."


@dataclass(frozen=True)
class AveragePooling(Pooling):
    """Keeps the mean of each window."""

    title: ClassVar[str] = "average pooling"
    kind: ClassVar[str] = "average pooling"
    idea: ClassVar[str] = "Keeps the mean of each window: maps shrink and grow smoother."


@dataclass(frozen=True)
class PowerPooling(Pooling):
    """Keeps the power mean of each window's strengths: between the mean and the strongest."""

    title: ClassVar[str] = "power pooling"
    kind: ClassVar[str] = "power pooling"
    idea: ClassVar[str] = "Keeps the power mean of each window: between average and max pooling (Lp pooling)."

    power: float = spec(
        2.0, label="power", low=1.0, high=16.0, meaning="1: the mean of strengths; more: nearer the max."
    )


@dataclass(frozen=True)
class GlobalPooling(LayerSettings):
    """One value a channel, from the whole map."""

    title: ClassVar[str] = "global pooling"
    kind: ClassVar[str] = "global pooling"
    idea: ClassVar[str] = "One value for each map: its average, its greatest, or between; where things stand is let go."
    needs_map: ClassVar[bool] = True

    takes: str = spec("average", label="takes the", choices=MEANS, meaning="What is taken of each map.")
    power: float = spec(2.0, label="power", low=1.0, high=16.0, meaning="Of the power mean.")

    def output_shape(self, given: Shape, *others: Shape) -> Shape:
        """(channels,)."""
        return (given[2],)

    def reach(self, given: Shape) -> None:
        """The whole of its input."""
        return
