"""What is done to every image before a network sees it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import Value, spec
from attentive_lens.plan.layers.base import Sides, both, one_or_both, text


@dataclass(frozen=True)
class Preprocessing(Value):
    """What is done to every image, of any set, before the network sees it."""

    title: ClassVar[str] = "preprocessing"

    input_size: Sides = spec(
        64,
        label="input size",
        unit="pixels",
        low=4,
        high=2048,
        counts=(2,),
        meaning="Side of the image the network sees; two numbers, rows and columns, where it is not square.",
    )
    resize_mode: str = spec(
        "stretch",
        label="resize mode",
        choices=("stretch", "letterbox", "centre crop"),
        meaning="How images of another shape than the input's take it: stretched, set in a border of their edge's"
        " colour, or cut to their middle.",
    )
    colour_space: str = spec(
        "RGB",
        label="colour space",
        choices=("RGB", "grey", "luma-chroma"),
        meaning="Red, green and blue; one channel; or brightness apart from colour (luma, and two of chroma).",
    )
    normalisation: str = spec(
        "standardise",
        label="normalisation",
        choices=("0-1", "standardise", "local contrast"),
        meaning="0-1: pixel values divided by 255. Standardise: less the training mean, over the training standard"
        " deviation. Local contrast: the same with the mean and deviation of each pixel's neighbourhood first.",
    )

    @property
    def channels(self) -> int:
        """Of a prepared image."""
        return 1 if self.colour_space == "grey" else 3

    @property
    def sides(self) -> tuple[int, int]:
        """Rows and columns of a prepared image."""
        return both(self.input_size)

    def sized(self, shorter: int) -> Sides:
        """An input size of the same proportions, whose shorter side has so many pixels."""
        rows, columns = (max(1, round(side * shorter / min(self.sides))) for side in self.sides)
        return one_or_both((rows, columns))

    @property
    def size_in_words(self) -> str:
        """«64×64»."""
        return text(self.sides)

    @property
    def shape(self) -> tuple[int, int, int]:
        """(rows, columns, channels) of a prepared image."""
        return (*self.sides, self.channels)
