"""Settings of the layers that make maps larger."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.plan.layers.base import LayerSettings, Reach, Shape, product


@dataclass(frozen=True)
class Resampling(LayerSettings):
    """Enlarges maps by a whole factor."""

    kind: ClassVar[str] = "resampling"
    idea: ClassVar[str] = "Enlarges maps by repeating pixels or by blending between them (upsampling)."
    needs_map: ClassVar[bool] = True

    factor: int = spec(
        2,
        label="factor",
        low=1,
        high=16,
        meaning="How many times larger rows and columns become.",
        ends="Usual: 2. At 1 nothing changes; large ones draw blocks that layers behind must mend.",
    )
    interpolation: str = spec(
        "nearest", label="interpolation", choices=("nearest", "bilinear"), meaning="Repeat the nearest, or blend."
    )

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """(rows · factor, columns · factor, channels)."""
        return (input_shape[0] * self.factor, input_shape[1] * self.factor, input_shape[2])

    def reach(self, input_shape: Shape) -> Reach | None:
        """Two pixels where it blends."""
        return Reach(2 if self.interpolation == "bilinear" else 1)


@dataclass(frozen=True)
class TransposedConvolution(LayerSettings):
    """A convolution run backward: every input pixel paints its filter onto a larger map."""

    kind: ClassVar[str] = "transposed convolution"
    idea: ClassVar[str] = "Every pixel paints a learned pattern onto a map that is larger by the stride."
    needs_map: ClassVar[bool] = True

    filter_axis: ClassVar[int] = 2

    filters: int = spec(
        16,
        label="filters",
        low=1,
        high=4096,
        meaning="How many maps come out.",
        ends="Usual: 16 to 256, halved wherever maps double. Few draw coarsely; cost grows with those before "
        "and those after.",
    )
    kernel_size: int = spec(
        4,
        label="kernel size",
        unit="pixels",
        low=1,
        high=31,
        meaning="Side of the square each pixel paints.",
        ends="Usual: twice the stride, so that all pixels are painted as often; else squares show.",
    )
    stride: int = spec(
        2,
        label="stride",
        unit="pixels",
        low=1,
        high=16,
        meaning="How many times larger maps become.",
        ends="Usual: 2. At 1 maps keep their size; large ones leave the kernel much to fill.",
    )

    @property
    def pads(self) -> tuple[int, int]:
        """Pixels cut off before and after, so that the output is exactly stride times larger."""
        over = max(0, self.kernel_size - self.stride)
        return over // 2, over - over // 2

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """(rows · stride, columns · stride, filters)."""
        return (input_shape[0] * self.stride, input_shape[1] * self.stride, self.filters)

    def output_channels(self, *inputs: int | None) -> int | None:
        """Its filters."""
        return self.filters

    def weight_shapes(self, input_shape: Shape) -> dict[str, Shape]:
        """``kernel``: KH×KW×filters×C; ``bias``: filters."""
        return {"kernel": (self.kernel_size, self.kernel_size, self.filters, input_shape[2]), "bias": (self.filters,)}

    def multiply_adds(self, input_shape: Shape) -> int:
        """Of the direct formula."""
        return product(input_shape) * self.kernel_size**2 * self.filters

    def reach(self, input_shape: Shape) -> Reach:
        """As many input pixels as paint on one output pixel."""
        return Reach(-(-self.kernel_size // self.stride))


RESAMPLINGS: tuple[type[LayerSettings], ...] = (
    Resampling,
    TransposedConvolution,
)
