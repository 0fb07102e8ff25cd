"""Settings of a convolution."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.plan.layers.base import DoesNotFit, LayerSettings, Reach, Shape, product, text, windows


@dataclass(frozen=True)
class Convolution(LayerSettings):
    """Filters that slide over the image, each answering with a feature map."""

    kind: ClassVar[str] = "convolution"
    idea: ClassVar[str] = "Filters slide over the image; each draws a feature map of where its pattern stands."
    needs_map: ClassVar[bool] = True

    filters: int = spec(16, label="filters", low=1, high=4096, meaning="How many patterns are looked for.")
    kernel_size: int = spec(
        3,
        label="kernel size",
        unit="pixels",
        low=1,
        high=31,
        meaning="Side of the square window that looks at the image.",
    )
    stride: int = spec(
        1,
        label="stride",
        unit="pixels",
        low=1,
        high=16,
        meaning="How far the window moves from one output to the next.",
    )
    padding: str = spec(
        "same",
        label="padding",
        choices=("same", "valid", "explicit"),
        meaning="Same: zeros round the image keep its side; valid: only whole windows count; explicit: so many zeros.",
    )
    padding_width: int = spec(
        0, label="padding width", unit="pixels", low=0, high=64, meaning="Zeros on each side with explicit padding."
    )
    dilation: int = spec(
        1, label="dilation", unit="pixels", low=1, high=16, meaning="Pixels from one place of the window to the next."
    )
    groups: int = spec(
        1, label="groups", low=1, high=4096, meaning="Parts of the channels that are filtered apart; all: depthwise."
    )

    def settings_in_use(self) -> tuple[str, ...]:
        """A padding width only with explicit padding."""
        return tuple(name for name in self.specs() if name != "padding_width" or self.padding == "explicit")

    @property
    def extent(self) -> int:
        """Side of the square the window spans, in input pixels."""
        return (self.kernel_size - 1) * self.dilation + 1

    @property
    def pads(self) -> tuple[int, int]:
        """Zeros before and after, on each axis."""
        if self.padding == "same":
            return ((self.extent - 1) // 2, self.extent // 2)
        return (self.padding_width, self.padding_width) if self.padding == "explicit" else (0, 0)

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """(rows, columns, filters)."""
        height, width, channels = input_shape
        before, after = self.pads
        if min(height, width) + before + after < self.extent:
            raise DoesNotFit(
                "The convolution does not fit",
                f"its {self.extent}×{self.extent} window is larger than its input, {text(input_shape)}",
                "Use a smaller kernel, same padding, or pool less before it",
            )
        if channels % self.groups or self.filters % self.groups:
            raise DoesNotFit(
                "The convolution does not fit",
                f"{channels} channels and {self.filters} filters cannot both be put into {self.groups} equal groups",
                "Choose a number of groups that divides both",
            )
        return (
            windows(height, self.extent, self.stride, before, after),
            windows(width, self.extent, self.stride, before, after),
            self.filters,
        )

    def output_channels(self, *inputs: int | None) -> int | None:
        """Its filters."""
        return self.filters

    def weight_shapes(self, input_shape: Shape) -> dict[str, Shape]:
        """``kernel``: KH×KW×(C / groups)×F; ``bias``: F."""
        per_group = max(1, input_shape[2] // self.groups)
        return {"kernel": (self.kernel_size, self.kernel_size, per_group, self.filters), "bias": (self.filters,)}

    def multiply_adds(self, input_shape: Shape) -> int:
        """Of the direct formula."""
        return product(self.output_shape(input_shape)) * self.kernel_size**2 * input_shape[2] // self.groups

    def reach(self, input_shape: Shape) -> Reach:
        """Its window."""
        return Reach(self.extent, self.stride, self.pads[0])

    @property
    def summary(self) -> str:
        """Kernel, padding and stride."""
        step = f", stride {self.stride}" if self.stride > 1 else ""
        return f"{self.kernel_size}×{self.kernel_size} kernel, {self.padding} padding{step}"


CONVOLUTIONS: tuple[type[LayerSettings], ...] = (Convolution,)
