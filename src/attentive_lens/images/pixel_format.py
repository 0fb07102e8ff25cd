"""What the pixels of a set are: bits, scale and channels, one for all of its images."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, NamedTuple, TypeAlias

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.values import Value, spec
from attentive_lens.errors import BadValue

EIGHT, SIXTEEN, THIRTY_TWO, FLOATING = "8 bit", "16 bit", "32 bit", "floating point"
DEPTHS = (EIGHT, SIXTEEN, THIRTY_TWO, FLOATING)
FIRST, STACKED, EACH = "first", "channels", "images"
PAGES = (FIRST, STACKED, EACH)
MOST_CHANNELS = 16
GREY, COLOURS = ("grey",), ("red", "green", "blue")
"""Channels that ordinary pictures have too."""
WHITES = (1, 255, 1023, 4095, 16_383, 65_535)
"""Values that stand for white: fractions, and whole numbers of 8, 10, 12, 14 and 16 bits."""


def white_of(highest: float) -> int:
    """The least of `WHITES` that no value exceeds; 0 if there is none."""
    return next((white for white in WHITES if highest <= white), 0)


def depth_of(dtype: np.dtype[Any]) -> str:
    """One of `DEPTHS`, by the type of stored values."""
    if dtype.kind == "f":
        return FLOATING
    return {1: EIGHT, 2: SIXTEEN}.get(dtype.itemsize, THIRTY_TWO)


PixelArray: TypeAlias = NDArray[np.uint8 | np.float32]
"""Pixels of one image or several, channels last: uint8 with white 255, or float32 with white 1."""


def levels(pixels: PixelArray) -> NDArray[np.float64]:
    """Pixels of either type from 0 to 255."""
    return pixels.astype(np.float64) if pixels.dtype == np.uint8 else pixels * np.float64(255)


def of_levels(values: NDArray[Any], dtype: np.dtype[Any]) -> PixelArray:
    """Pixels of a type from values 0 to 255, cut off there; whole levels where the type is uint8."""
    if dtype == np.uint8:
        return (values + 0.5).clip(0, 255).astype(np.uint8)
    return (values / 255).clip(0, 1).astype(np.float32)


def level_of(level: int, dtype: np.dtype[Any]) -> float:
    """A level 0–255 as pixels of a type have it."""
    return level if dtype == np.uint8 else level / 255


def white_in(pixels: PixelArray) -> int:
    """What white is in pixels of this type."""
    return 255 if pixels.dtype == np.uint8 else 1


def eight_bits(pixels: PixelArray) -> NDArray[np.uint8]:
    """Pixels of either type as uint8."""
    return np.asarray(pixels if pixels.dtype == np.uint8 else of_levels(levels(pixels), np.dtype(np.uint8)), np.uint8)


class Scaled(NamedTuple):
    """Pixels on a scale, and how many values lay beyond it, and are at its ends now."""

    pixels: PixelArray
    beyond: int


@dataclass(frozen=True)
class PixelFormat(Value):
    """Bits, scale and channels of every image of a set, as the network is to see them.

    The usual one is a picture's, 8 bits of red, green and blue, whatever a file holds. Any other keeps what is
    stored: pixels are then float32, black 0 and white 1, or uint8 where 8 bits are stored.
    """

    title: ClassVar[str] = "pixel format"

    depth: str = spec(EIGHT, label="depth", choices=DEPTHS, meaning="Of a value as it is stored.")
    black: float = spec(0.0, label="black", meaning="The stored value that is 0 for the network.")
    white: float = spec(
        0.0, label="white", meaning="The stored value that is 1 for the network; 0 with black 0: found out by picture."
    )
    channels: tuple[str, ...] = spec(
        (), label="channels", meaning="Their names in order; none: those of an ordinary picture."
    )
    pages: str = spec(FIRST, label="pages", choices=PAGES, meaning="What several pages of one file are.")

    def __post_init__(self) -> None:
        super().__post_init__()
        if not (np.isfinite(self.black) and np.isfinite(self.white)) or self.white < self.black:
            why = f"black is {self.black:g} and white {self.white:g}"
            raise BadValue(self.title, why, "Give two numbers, white the greater one")
        if self.depth != EIGHT and (self.white == self.black or not self.channels):
            why = f"{self.depth} values have no {'channels' if self.white > self.black else 'scale'}"
            raise BadValue(self.title, why, "Say what is black, what is white, and what the channels are called")
        if self.is_plain and (self.black or self.white % 1 or self.white > WHITES[-1]):
            why = f"black is {self.black:g} and white {self.white:g}"
            raise BadValue(self.title, why, f"In ordinary pictures white is a whole number up to {WHITES[-1]}")
        if len(self.channels) > MOST_CHANNELS or len(set(self.channels)) < len(self.channels):
            why = f"there are {len(self.channels)} channels, or two of one name"
            raise BadValue(self.title, why, f"Name {MOST_CHANNELS} at most, each otherwise")

    @property
    def is_plain(self) -> bool:
        """Whether images are ordinary pictures: 8 bits, red, green and blue."""
        return self.depth == EIGHT and not self.channels

    @property
    def dtype(self) -> np.dtype[Any]:
        """Of pixels: uint8, or float32 from 0 to 1."""
        return np.dtype(np.uint8 if self.depth == EIGHT else np.float32)

    @property
    def scale_in_words(self) -> str:
        """«white is 4095», «black is -1024, white is 3071»."""
        black = f"black is {self.black:g}, " if self.black else ""
        return f"{black}white is {self.white:g}"

    def to_table(self) -> dict[str, Any]:
        """What a model says of it: of an ordinary picture its white alone."""
        return {"white": int(self.white)} if self.is_plain else {"pixel_format": self.write()}

    @classmethod
    def from_table(cls, table: Mapping[str, Any]) -> PixelFormat:
        """What `to_table` said; `BadValue` if it is none."""
        own = table.get("pixel_format")
        if own is None:
            white = table.get("white", 0)
            if isinstance(white, bool) or not isinstance(white, int) or not 0 <= white <= WHITES[-1]:
                raise BadValue("white", f"white is no whole number from 0 to {WHITES[-1]}", "Mend the file")
            return cls(white=white)
        if not isinstance(own, Mapping):
            raise BadValue("pixel format", "it is no table", "Mend the file")
        return cls.read(own)

    def scaled(self, values: NDArray[Any]) -> Scaled:
        """Stored values H×W×C as pixels of this format, which is not the plain one.

        Raises
        ------
        ValueError
            If they have another number of channels, or are no numbers; the text is a reason to show.
        """
        if values.shape[2] == 1 and self.channels == COLOURS:
            values = np.repeat(values, 3, axis=2)
        self.check_channels(values.shape[2])
        if self.depth == EIGHT:
            if values.dtype == np.bool_:
                values = values * np.uint8(255)
            if values.dtype != np.uint8 and (values.min() < 0 or values.max() > 255 or np.any(values % 1)):
                raise ValueError(f"its values run from {values.min():g} to {values.max():g}, and 8 bits are expected")
            return Scaled(np.ascontiguousarray(values, np.uint8), 0)
        low, high = values.min(), values.max()
        if not (np.isfinite(low) and np.isfinite(high)):
            raise ValueError("it has values that are not numbers")
        exact = np.dtype(np.float32 if values.dtype.itemsize <= 2 or values.dtype == np.float32 else np.float64)
        scaled = values.astype(exact)
        if self.black:
            scaled -= exact.type(self.black)
        scaled *= exact.type(1 / (self.white - self.black))
        pixels = scaled.astype(np.float32, copy=False)
        if low >= self.black and high <= self.white:
            return Scaled(np.minimum(pixels, 1, out=pixels), 0)  # rounding may pass it by a hair
        beyond = int(np.count_nonzero((values < self.black) | (values > self.white)))
        return Scaled(np.clip(pixels, 0, 1, out=pixels), beyond)

    def stored(self, pixels: PixelArray) -> PixelArray:
        """Pixels as the values they were made of: uint8, or float32 on the scale of the files."""
        if self.depth == EIGHT:
            return pixels
        return np.asarray(pixels * np.float64(self.white - self.black) + self.black, np.float32)

    def in_words(self, pixel: PixelArray) -> str:
        """One pixel's values as they are stored, by the names of their channels where it has more than colours."""
        if self.depth == EIGHT:
            values = [str(int(value)) for value in pixel]
        else:
            form = ".4g" if self.depth == FLOATING else ".0f"
            values = [f"{float(value):{form}}" for value in self.stored(pixel)]
        if are_ordinary(self.channels) or len(values) != len(self.channels):
            return " ".join(values)
        return ", ".join(f"{name} {value}" for name, value in zip(self.channels, values, strict=True))

    def check_channels(self, count: int) -> None:
        """Refuse another number of channels; the text of the `ValueError` is a reason to show."""
        if count != len(self.channels):
            raise ValueError(f"it has {_channels(count)}, and {len(self.channels)} are expected: {self.names}")

    @property
    def names(self) -> str:
        """«red, green, infrared»."""
        return ", ".join(self.channels)


PICTURE = PixelFormat()
"""An ordinary picture."""


def _channels(count: int) -> str:
    return "1 channel" if count == 1 else f"{count} channels"


def are_ordinary(channels: Sequence[str]) -> bool:
    """Whether channels of these names are an ordinary picture's: none named, grey, or red, green and blue."""
    return tuple(channels) in ((), GREY, COLOURS)


def usual_channels(count: int) -> tuple[str, ...]:
    """Names for channels that nobody named: grey, colours, or numbers."""
    if count in (1, 3):
        return GREY if count == 1 else COLOURS
    return numbered(count)


def numbered(count: int) -> tuple[str, ...]:
    """Names for channels of which nothing is known."""
    return tuple(f"channel {number}" for number in range(1, count + 1))
