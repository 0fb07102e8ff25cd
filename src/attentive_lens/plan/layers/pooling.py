"""Settings of pooling, windowed and global."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.plan.layers.base import DoesNotFit, LayerSettings, Reach, Shape, text, windows

MEANS = ("average", "max", "power mean")


@dataclass(frozen=True)
class Pooling(LayerSettings):
    """Base of the poolings over a moving window."""

    needs_map: ClassVar[bool] = True

    kernel_size: int = spec(2, label="kernel size", unit="pixels", low=1, high=31, meaning="Side of the window.")
    stride: int = spec(2, label="stride", unit="pixels", low=1, high=31, meaning="How far the window moves each time.")

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """(rows, columns, channels); pixels that fill no whole window at the edge are left out."""
        if min(input_shape[0], input_shape[1]) < self.kernel_size:
            raise DoesNotFit(
                "The pooling does not fit",
                f"windows of {text((self.kernel_size,) * 2)} need at least as many pixels, and get"
                f" {text(input_shape[:2])}",
                "Take the layer out, or shrink less before it",
            )
        rows, columns = (windows(side, self.kernel_size, self.stride, 0, 0) for side in input_shape[:2])
        return (rows, columns, input_shape[2])

    def reach(self, input_shape: Shape) -> Reach:
        """Its window."""
        return Reach(self.kernel_size, self.stride, 0)

    @property
    def summary(self) -> str:
        """Window and stride."""
        return f"{self.kernel_size}×{self.kernel_size} window, stride {self.stride}"


@dataclass(frozen=True)
class MaxPooling(Pooling):
    """Keeps the strongest value of each window and so shrinks the maps."""

    kind: ClassVar[str] = "max pooling"
    idea: ClassVar[str] = "Keeps the strongest value of each window: maps shrink, small shifts stop mattering."


@dataclass(frozen=True)
class AveragePooling(Pooling):
    """Keeps the mean of each window."""

    kind: ClassVar[str] = "average pooling"
    idea: ClassVar[str] = "Keeps the mean of each window: maps shrink and grow smoother."


@dataclass(frozen=True)
class PowerPooling(Pooling):
    """Keeps the power mean of each window's strengths: between the mean and the strongest."""

    kind: ClassVar[str] = "power pooling"
    idea: ClassVar[str] = "Keeps the power mean of each window: between average and max pooling (Lp pooling)."

    power: float = spec(
        2.0, label="exponent", low=1.0, high=16.0, meaning="1: the mean of strengths; more: nearer the max."
    )


@dataclass(frozen=True)
class GlobalPooling(LayerSettings):
    """One value a channel, from the whole map."""

    kind: ClassVar[str] = "global pooling"
    idea: ClassVar[str] = "One value for each map: its average, its greatest, or between; where things stand is let go."
    needs_map: ClassVar[bool] = True

    mode: str = spec("average", label="mode", choices=MEANS, meaning="What is taken of each map.")
    power: float = spec(2.0, label="exponent", low=1.0, high=16.0, meaning="Of the power mean.")

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """(channels,)."""
        return (input_shape[2],)

    def reach(self, input_shape: Shape) -> None:
        """The whole of its input."""
        return


POOLINGS: tuple[type[LayerSettings], ...] = (
    MaxPooling,
    AveragePooling,
    PowerPooling,
    GlobalPooling,
)
