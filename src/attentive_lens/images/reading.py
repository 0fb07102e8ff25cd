"""How a table or an array file is to be read as images."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import ClassVar

from attentive_lens.core.values import Value, spec
from attentive_lens.images.pixel_format import DEPTHS, EIGHT, FIRST, PAGES, PixelFormat
from attentive_lens.plan.labels import label_set, labels_in

LAYOUTS = ("", "NHW", "NHWC", "NCHW", "HWN", "HWCN", "NP", "PN")
"""Axes in order: N images, H rows, W columns, C channels; P all pixels of an image in one row or column."""

ORDERS = ("", "HWC", "CHW", "WHC", "CWH")
"""Of the pixels where an image is one long row: what comes last changes fastest."""


FULL, EXTREMES, PERCENTILES = "type", "range", "percentiles"
SCALES = ("", FULL, EXTREMES, PERCENTILES)
"""What black and white are found by."""


@dataclass(frozen=True)
class Reading(Value):
    """Where the images and the labels are in a source, and how pixels follow each other.

    A field left empty (or 0) is found out from the source. What cannot be found out has several readings, and
    somebody has to look at the pictures and choose.
    """

    title: ClassVar[str] = "reading"

    images: str = spec("", label="images in", meaning="Name of the array or column with the images; empty: found out.")
    labels: str = spec(
        "",
        label="labels in",
        meaning="Name of the array or column with the labels, or a pattern whose bracket is the class in files' names;"
        " empty: found out. Several columns of 0 and 1, parted by commas, are a label each.",
    )
    separator: str = spec(
        "",
        label="labels parted by",
        meaning="Sign between several labels of one image, each of which is learned by itself; empty: one label, which"
        " is its class.",
    )
    layout: str = spec(
        "",
        label="axes",
        choices=LAYOUTS,
        meaning="Axes of the array in order: N images, H rows, W columns, C channels, P all pixels in one line.",
    )
    order: str = spec(
        "",
        label="pixels run",
        choices=ORDERS,
        meaning="Order of the pixels of an image kept in one line; the last axis named changes fastest.",
    )
    height: int = spec(0, label="rows", unit="pixels", low=0, high=20000, meaning="Rows of an image; 0: found out.")
    width: int = spec(0, label="columns", unit="pixels", low=0, high=20000, meaning="Columns; 0: found out.")

    depth: str = spec(
        "",
        label="depth",
        choices=("", *DEPTHS),
        meaning="Of every value, in all images alike: 8 bit makes ordinary pictures of all, anything else keeps what is"
        " stored; empty: found out.",
    )
    channels: str = spec(
        "",
        label="channels",
        meaning="Names of the channels in order, parted by commas, where they are not grey, or red, green and blue.",
    )
    pages: str = spec(
        "",
        label="pages are",
        choices=("", *PAGES),
        meaning="Of files with several pages: only the first is read, each is an image, or all are channels of one.",
    )
    scale: str = spec(
        "",
        label="scale",
        choices=SCALES,
        meaning="What is black and white beyond 8 bits: all that the type of the values allows, the least and greatest"
        " value, or those that one in a thousand is beyond; empty: as many bits as are needed.",
    )
    black: float = spec(
        0.0, label="black", meaning="Value that is black, in all images alike; with white 0: found out."
    )
    white: float = spec(
        0.0,
        label="white",
        meaning="Value that is white where there are more than 8 bits a channel, in all images alike; 0: found out.",
    )

    def __post_init__(self) -> None:
        super().__post_init__()
        self.pixel_format  # noqa: B018  # refused here if it is none

    @property
    def several_labels(self) -> bool:
        """Whether an image may have several labels, or none."""
        return bool(self.separator)

    def label(self, word: str) -> str:
        """The class of an image by what its source says: the word itself, or its labels in order."""
        return label_set(labels_in(word, self.separator)) if self.separator else word

    def agrees(self, wish: Reading) -> bool:
        """Whether this reading has every setting that was asked for."""
        return all(not getattr(wish, name) or getattr(wish, name) == getattr(self, name) for name in self.specs())

    @property
    def channel_names(self) -> tuple[str, ...]:
        """In order; none where they are a picture's."""
        return tuple(name.strip() for name in self.channels.split(",") if name.strip())

    @property
    def has_scale(self) -> bool:
        """Whether it says what black and white are."""
        return self.black < self.white

    @property
    def beyond_eight_bits(self) -> bool:
        """Whether it says a scale that no ordinary picture has."""
        return bool(self.black or self.white % 1) or self.white > 255

    @cached_property
    def pixel_format(self) -> PixelFormat:
        """Of the images; the plain one where nothing is said, as far as it is known."""
        is_open = self.depth == "" and not self.channel_names and (self.black or self.white % 1)
        if is_open or (self.depth not in ("", EIGHT) and not (self.has_scale and self.channel_names)):
            return PixelFormat(pages=self.pages or FIRST)  # until it is completed
        return PixelFormat(self.depth or EIGHT, self.black, self.white, self.channel_names, self.pages or FIRST)

    @property
    def summary(self) -> str:
        """The settings that are not empty, as a command line takes them."""
        return " ".join(f"{name}={_word(getattr(self, name))}" for name in self.specs() if getattr(self, name))


def _word(value: object) -> str:
    return f"{value:.12g}" if isinstance(value, float) else str(value)
