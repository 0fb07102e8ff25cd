"""Settings of a convolution."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.layers.base import DoesNotFit, LayerSettings, Reach, Shape, product, text, windows
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Convolution(LayerSettings):
    """Filters that slide over the image, each answering with a feature map."""

    title: ClassVar[str] = "convolution"
    kind: ClassVar[str] = "convolution"
    idea: ClassVar[str] = "Filters slide over the image; each draws a feature map of where its pattern stands."
    needs_map: ClassVar[bool] = True

    filters: int = spec(16, label="filters", low=1, high=4096, meaning="How many patterns are looked for.")
    kernel: int = spec(
        3,
        label="looks through",
        unit="pixels",
        low=1,
        high=31,
        meaning="Side of the square window (kernel size).",
    )
    stride: int = spec(1, label="moves by", unit="pixels", low=1, high=16, meaning="Step of the window (stride).")
    padding: str = spec(
        "same",
        label="edges",
        choices=("same", "valid"),
        meaning="Kept: zeros round the image keep its side (same). Cut: only whole windows count (valid).",
    )

    @property
    def pads(self) -> tuple[int, int]:
        """Zeros before and after, on each axis."""
        return ((self.kernel - 1) // 2, self.kernel // 2) if self.padding == "same" else (0, 0)

    def output_shape(self, given: Shape) -> Shape:
        """(rows, columns, filters)."""
        height, width, _ = given
        before, after = self.pads
        if min(height, width) + before + after < self.kernel:
            raise DoesNotFit(
                "The convolution does not fit",
                f"its {self.kernel}×{self.kernel} window with cut edges is larger than its input, {text(given)}",
                "Use a smaller window, keep the edges, or pool less before it",
            )
        return (
            windows(height, self.kernel, self.stride, before, after),
            windows(width, self.kernel, self.stride, before, after),
            self.filters,
        )

    def weight_shapes(self, given: Shape) -> dict[str, Shape]:
        """``kernel``: KH×KW×C×F; ``bias``: F."""
        return {"kernel": (self.kernel, self.kernel, given[2], self.filters), "bias": (self.filters,)}

    def multiply_adds(self, given: Shape) -> int:
        """Of the direct formula."""
        return product(self.output_shape(given)) * self.kernel**2 * given[2]

    def reach(self) -> Reach:
        """Its window."""
        return Reach(self.kernel, self.stride, self.pads[0])
