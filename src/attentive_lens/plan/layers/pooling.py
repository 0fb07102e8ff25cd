"""Settings of max pooling."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.layers.base import DoesNotFit, LayerSettings, Reach, Shape, text, windows
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class MaxPooling(LayerSettings):
    """Keeps the strongest value of each window and so shrinks the maps."""

    title: ClassVar[str] = "max pooling"
    kind: ClassVar[str] = "max pooling"
    idea: ClassVar[str] = "Keeps the strongest value of each window: maps shrink, small shifts stop mattering."
    needs_map: ClassVar[bool] = True

    window: int = spec(2, label="takes the best of", unit="pixels", low=1, high=31, meaning="Side of the window.")
    stride: int = spec(2, label="moves by", unit="pixels", low=1, high=31, meaning="Step of the window (stride).")

    def output_shape(self, given: Shape) -> Shape:
        """(rows, columns, channels); pixels that fill no whole window at the edge are left out."""
        if min(given[0], given[1]) < self.window:
            raise DoesNotFit(
                "The pooling does not fit",
                f"pooling {self.window}×{self.window} needs at least {self.window}×{self.window}, gets {text(given)}",
                "Take the layer out, or shrink less before it",
            )
        return (
            windows(given[0], self.window, self.stride, 0, 0),
            windows(given[1], self.window, self.stride, 0, 0),
            given[2],
        )

    def reach(self) -> Reach:
        """Its window."""
        return Reach(self.window, self.stride, 0)
