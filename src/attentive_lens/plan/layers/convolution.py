"""Settings of a convolution."""

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
    product,
    text,
    windows,
)


@dataclass(frozen=True)
class Convolution(LayerSettings):
    """Filters that slide over the image, each answering with a feature map."""

    kind: ClassVar[str] = "convolution"
    idea: ClassVar[str] = "Filters slide over the image; each draws a feature map of where its pattern stands."
    needs_map: ClassVar[bool] = True

    filters: int = spec(
        16,
        label="filters",
        low=1,
        high=4096,
        meaning="How many patterns are looked for.",
        ends="Usual: 16 to 512, doubled wherever maps are halved. Few see few patterns; cost grows with those "
        "before and those after.",
    )
    kernel_size: Sides = spec(
        3,
        label="kernel size",
        unit="pixels",
        low=1,
        high=31,
        counts=(2,),
        meaning="Side of the window that looks at the image; two numbers, rows and columns, where it is not square.",
        ends="Usual: 3; 1 to mix channels, 5 or 7 in a first layer. Large ones cost with the square, and two "
        "small ones see as far.",
    )
    stride: int = spec(
        1,
        label="stride",
        unit="pixels",
        low=1,
        high=16,
        meaning="How far the window moves from one output to the next.",
        ends="Usual: 1, or 2 to halve the maps. Beyond the kernel's size pixels are never seen.",
    )
    padding: str = spec(
        "same",
        label="padding",
        choices=("same", "valid", "explicit"),
        meaning="Same: zeros round the image keep its side; valid: only whole windows count; explicit: so many zeros.",
    )
    padding_width: Sides = spec(
        0,
        label="padding width",
        unit="pixels",
        low=0,
        high=64,
        counts=(2, 4),
        meaning="Zeros on each side with explicit padding; two numbers: rows, columns; four: top, bottom, left, right.",
        ends="Usual: half of the kernel, which keeps the size. At 0 edges are seen less often; more adds a "
        "border of nothing.",
    )
    dilation: int = spec(
        1,
        label="dilation",
        unit="pixels",
        low=1,
        high=16,
        meaning="Pixels from one place of the window to the next.",
        ends="Usual: 1; 2 or 4 to see farther at the same cost. Large ones leave gaps that fine patterns fall into.",
    )
    groups: int = spec(
        1,
        label="groups",
        low=1,
        high=4096,
        meaning="Parts of the channels that are filtered apart; all: depthwise.",
        ends="Usual: 1. More cost so many times less, and channels of different groups never meet; as many as "
        "channels is depthwise.",
    )

    def settings_in_use(self) -> tuple[str, ...]:
        """A padding width only with explicit padding."""
        return tuple(name for name in self.specs() if name != "padding_width" or self.padding == "explicit")

    @property
    def extents(self) -> tuple[int, int]:
        """Rows and columns that the window spans, in input pixels."""
        rows, columns = both(self.kernel_size)
        return (rows - 1) * self.dilation + 1, (columns - 1) * self.dilation + 1

    @property
    def pads(self) -> Pads:
        """Zeros before and after, of rows and of columns."""
        if self.padding == "same":
            rows, columns = self.extents
            return ((rows - 1) // 2, rows // 2), ((columns - 1) // 2, columns // 2)
        return four(self.padding_width if self.padding == "explicit" else 0)

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """(rows, columns, filters)."""
        channels = input_shape[2]
        sides = tuple(zip(input_shape[:2], self.extents, self.pads, strict=True))
        if any(side + sum(pads) < extent for side, extent, pads in sides):
            raise DoesNotFit(
                "The convolution does not fit",
                f"its {text(self.extents)} window is larger than its input, {text(input_shape)}",
                "Use a smaller kernel, same padding, or pool less before it",
            )
        if channels % self.groups or self.filters % self.groups:
            raise DoesNotFit(
                "The convolution does not fit",
                f"{channels} channels and {self.filters} filters cannot both be put into {self.groups} equal groups",
                "Choose a number of groups that divides both",
            )
        rows, columns = (windows(side, extent, self.stride, *pads) for side, extent, pads in sides)
        return (rows, columns, self.filters)

    def output_channels(self, *inputs: int | None) -> int | None:
        """Its filters."""
        return self.filters

    def weight_shapes(self, input_shape: Shape) -> dict[str, Shape]:
        """``kernel``: KH×KW×(C / groups)×F; ``bias``: F."""
        per_group = max(1, input_shape[2] // self.groups)
        return {"kernel": (*both(self.kernel_size), per_group, self.filters), "bias": (self.filters,)}

    def multiply_adds(self, input_shape: Shape) -> int:
        """Of the direct formula."""
        return product(self.output_shape(input_shape)) * product(both(self.kernel_size)) * input_shape[2] // self.groups

    def reach(self, input_shape: Shape) -> Reach:
        """Its window."""
        return Reach(max(self.extents), self.stride, max(before for before, _ in self.pads))

    def axes(self, input_shape: Shape) -> tuple[Axis, Axis]:
        """Its windows."""
        shape, pads = self.output_shape(input_shape), self.pads
        rows, columns = (Axis(input_shape[k], self.extents[k], self.stride, *pads[k], shape[k]) for k in (0, 1))
        return rows, columns

    @property
    def summary(self) -> str:
        """Kernel, padding and stride."""
        step = f", stride {self.stride}" if self.stride > 1 else ""
        return f"{text(both(self.kernel_size))} kernel, {self.padding} padding{step}"


CONVOLUTIONS: tuple[type[LayerSettings], ...] = (Convolution,)
