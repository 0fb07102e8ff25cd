"""Settings of the layers that make maps larger."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.layers.base import LayerSettings, Reach, Shape, product
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Resampling(LayerSettings):
    """Enlarges maps by a whole factor."""

    title: ClassVar[str] = "resampling"
    kind: ClassVar[str] = "resampling"
    idea: ClassVar[str] = "Enlarges maps by repeating pixels or by blending between them (upsampling)."
    needs_map: ClassVar[bool] = True

    factor: int = spec(2, label="times", low=1, high=16, meaning="How many times larger rows and columns become.")
    between: str = spec(
        "nearest", label="between pixels", choices=("nearest", "bilinear"), meaning="Repeat the nearest, or blend."
    )

    def output_shape(self, given: Shape, *others: Shape) -> Shape:
        """(rows · factor, columns · factor, channels)."""
        return (given[0] * self.factor, given[1] * self.factor, given[2])

    def reach(self, given: Shape) -> Reach | None:
        """Two pixels where it blends."""
        return Reach(2 if self.between == "bilinear" else 1)


@dataclass(frozen=True)
class TransposedConvolution(LayerSettings):
    """A convolution run backward: every input pixel paints its filter onto a larger map."""

    title: ClassVar[str] = "transposed convolution"
    kind: ClassVar[str] = "transposed convolution"
    idea: ClassVar[str] = "Every pixel paints a learned pattern onto a map that is larger by the step."
    needs_map: ClassVar[bool] = True

    filters: int = spec(16, label="filters", low=1, high=4096, meaning="How many maps come out.")
    kernel: int = spec(4, label="paints", unit="pixels", low=1, high=31, meaning="Side of the painted square.")
    stride: int = spec(2, label="moves by", unit="pixels", low=1, high=16, meaning="How many times larger maps become.")

    @property
    def pads(self) -> tuple[int, int]:
        """Pixels cut off before and after, so that the output is exactly stride times larger."""
        over = max(0, self.kernel - self.stride)
        return over // 2, over - over // 2

    def output_shape(self, given: Shape, *others: Shape) -> Shape:
        """(rows · stride, columns · stride, filters)."""
        return (given[0] * self.stride, given[1] * self.stride, self.filters)

    def weight_shapes(self, given: Shape) -> dict[str, Shape]:
        """``kernel``: KH×KW×filters×C; ``bias``: filters."""
        return {"kernel": (self.kernel, self.kernel, self.filters, given[2]), "bias": (self.filters,)}

    def multiply_adds(self, given: Shape) -> int:
        """Of the direct formula."""
        return product(given) * self.kernel**2 * self.filters

    def reach(self, given: Shape) -> Reach:
        """As many input pixels as paint on one output pixel."""
        return Reach(-(-self.kernel // self.stride))
