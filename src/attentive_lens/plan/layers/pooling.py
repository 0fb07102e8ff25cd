"""Settings of pooling, windowed and global."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.plan.layers.base import (
    Axis,
    DoesNotFit,
    LayerSettings,
    Pads,
    Reach,
    Shape,
    Sides,
    both,
    four,
    text,
    windows,
)

MEANS = ("average", "max", "power mean")


@dataclass(frozen=True)
class Pooling(LayerSettings):
    """Base of the poolings over a moving window."""

    needs_map: ClassVar[bool] = True

    kernel_size: Sides = spec(
        2,
        label="kernel size",
        unit="pixels",
        low=1,
        high=31,
        counts=(2,),
        meaning="Side of the window; two numbers, rows and columns, where it is not square.",
        ends="Usual: 2 or 3. At 1 nothing is gathered; large ones lose where things are.",
    )
    stride: int = spec(
        2,
        label="stride",
        unit="pixels",
        low=1,
        high=31,
        meaning="How far the window moves each time.",
        ends="Usual: as large as the window, or one less. At 1 maps keep their size; beyond the window places "
        "are skipped.",
    )
    padding_width: Sides = spec(
        0,
        label="padding width",
        unit="pixels",
        low=0,
        high=30,
        counts=(2, 4),
        meaning="Pixels that windows may begin and end outside the map, where nothing counts; two numbers: rows,"
        " columns; four: top, bottom, left, right.",
        ends="Usual: 0, or half of a window of 3. It must be less than the window.",
    )
    ceil_mode: bool = spec(
        False, label="ceil mode", meaning="Whether a window at the edge that is not filled counts with what it has."
    )

    @property
    def pads(self) -> Pads:
        """Pixels outside before and after, of rows and of columns."""
        return four(self.padding_width)

    @property
    def clips(self) -> bool:
        """Whether a window may reach outside the map."""
        return self.padding_width != 0 or self.ceil_mode

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """(rows, columns, channels); in ceil mode the windows at the edge that hold a pixel count too."""
        extents = both(self.kernel_size)
        counts = []
        for side, extent, pads in zip(input_shape[:2], extents, self.pads, strict=True):
            if max(pads) >= extent:
                raise DoesNotFit(
                    "The pooling does not fit",
                    f"a padding of {max(pads)} pixels makes windows of {text(extents)} that hold nothing",
                    "Use a smaller padding width",
                )
            least = 1 if self.ceil_mode else extent - sum(pads)
            if side < least:
                raise DoesNotFit(
                    "The pooling does not fit",
                    f"windows of {text(extents)} need at least as many pixels, and get {text(input_shape[:2])}",
                    "Take the layer out, or shrink less before it",
                )
            counts.append(self._count(side, extent, *pads))
        return (*counts, input_shape[2])

    def _count(self, side: int, extent: int, before: int, after: int) -> int:
        if not self.ceil_mode:
            return windows(side, extent, self.stride, before, after)
        count = max(0, -(-(side + before + after - extent) // self.stride)) + 1
        return count - 1 if (count - 1) * self.stride >= side + before else count

    def reach(self, input_shape: Shape) -> Reach:
        """Its window."""
        return Reach(max(both(self.kernel_size)), self.stride, max(before for before, _ in self.pads))

    def axes(self, input_shape: Shape) -> tuple[Axis, Axis]:
        """Its windows."""
        shape, pads, extents = self.output_shape(input_shape), self.pads, both(self.kernel_size)
        rows, columns = (
            Axis(input_shape[k], extents[k], self.stride, *pads[k], shape[k], self.ceil_mode) for k in (0, 1)
        )
        return rows, columns

    @property
    def summary(self) -> str:
        """Window and stride."""
        return f"{text(both(self.kernel_size))} window, stride {self.stride}"


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
        2.0,
        label="exponent",
        low=1.0,
        high=16.0,
        meaning="1: the mean of strengths; more: nearer the max.",
        ends="Usual: 2 to 4. At 1 a mean; at 16 nearly the greatest alone.",
    )


@dataclass(frozen=True)
class GlobalPooling(LayerSettings):
    """One value a channel, from the whole map."""

    kind: ClassVar[str] = "global pooling"
    idea: ClassVar[str] = "One value for each map: its average, its greatest, or between; where things stand is let go."
    needs_map: ClassVar[bool] = True

    mode: str = spec("average", label="mode", choices=MEANS, meaning="What is taken of each map.")
    power: float = spec(
        2.0,
        label="exponent",
        low=1.0,
        high=16.0,
        meaning="Of the power mean.",
        ends="Usual: 2 to 4. At 1 a mean; at 16 nearly the greatest alone.",
    )

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
