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
        ends="Usual: 32 to 224, no more than most images have. Too small: what tells classes apart is gone; "
        "twice the side costs four times as much.",
    )
    resize_mode: str = spec(
        "stretch",
        label="resize mode",
        choices=("stretch", "letterbox", "centre crop", "none"),
        meaning="How images of another shape than the input's take it: stretched, set in a border of their edge's"
        " colour, or cut to their middle. None: at their own scale, where sizes mean something; what is larger is cut"
        " to its middle, what is smaller gets a border.",
    )
    crop_to: str = spec(
        "image",
        label="crop to",
        choices=("image", "object"),
        meaning="What of each image is seen: all of it, or the object and what is near to it, where an outline is"
        " known; images without one are seen whole.",
    )
    crop_margin: float = spec(
        0.1,
        label="crop margin",
        low=0.0,
        high=2.0,
        meaning="How much about the object is seen too, at each side: a part of its longer side.",
        ends="Usual: 0.05 to 0.2. At 0 the outline's edge is cut; large ones bring back what the crop was to "
        "leave out.",
    )
    colour_space: str = spec(
        "RGB",
        label="colour space",
        choices=("RGB", "grey", "luma-chroma"),
        meaning="Red, green and blue; one channel; or brightness apart from colour (luma, and two of chroma).",
    )
    channel_names: tuple[str, ...] = spec(
        (),
        label="channels",
        meaning="Names of the channels that the network sees, of images whose channels have names; none: as the colour"
        " space says.",
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
        return len(self.channel_names) or (1 if self.colour_space == "grey" else 3)

    @property
    def names_of_channels(self) -> tuple[str, ...]:
        """Of a prepared image, in order."""
        if self.channel_names:
            return self.channel_names
        if self.has_chroma:
            return ("luma", "blue chroma", "red chroma")
        return ("grey",) if self.colour_space == "grey" else ("red", "green", "blue")

    @property
    def is_colour(self) -> bool:
        """Whether a prepared image has red, green and blue, or what is made of them."""
        return not self.channel_names and self.colour_space != "grey"

    @property
    def has_chroma(self) -> bool:
        """Whether brightness is parted from colour."""
        return not self.channel_names and self.colour_space == "luma-chroma"

    @property
    def keeps_scale(self) -> bool:
        """Whether a pixel of a prepared image is one of the file."""
        return self.resize_mode == "none"

    @property
    def caution_of_files(self) -> str:
        """What to say where files are asked about that stand in no workspace; empty where nothing need be said."""
        if self.crop_to == "image":
            return ""
        return "The network was trained on crops to the object, and files are seen whole: crop them first."

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
