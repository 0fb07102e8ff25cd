"""What is done to every image before a network sees it: the input size, then colour space and normalisation."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.core.jobs import breathe
from attentive_lens.errors import BadValue
from attentive_lens.images.decoding import Picture
from attentive_lens.images.pages import decode_named
from attentive_lens.images.pixel_format import PICTURE, PixelArray, PixelFormat, are_ordinary, levels, of_levels
from attentive_lens.images.rows import Chosen
from attentive_lens.plan.preprocessing import Preprocessing

Region: TypeAlias = tuple[int, int, int, int]
"""Top, left, bottom and right, in whole pixels."""


def cropped(pixels: PixelArray, region: Region | None) -> PixelArray:
    """A part of an image H×W×C; all of it without a region."""
    if region is None:
        return pixels
    top, left, bottom, right = region
    return pixels[top:bottom, left:right]


@dataclass(frozen=True)
class Frame:
    """The part of an image that a prepared one shows, in whole pixels; it reaches beyond where a border is added.

    Where a crop leaves an odd line out, and where a border adds one, it does towards the upper left.
    """

    top: int
    left: int
    height: int
    width: int

    @staticmethod
    def about(height: int, width: int, tall: int, wide: int) -> Frame:
        """Rows and columns about the middle of an image H×W."""
        top, left = (
            (whole - part) // 2 if part <= whole else -((part - whole) // 2)
            for whole, part in ((height, tall), (width, wide))
        )
        return Frame(top, left, tall, wide)


def frame_of(height: int, width: int, preprocessing: Preprocessing) -> Frame:
    """What a prepared image shows of one H×W."""
    rows, columns = preprocessing.sides
    mode = preprocessing.resize_mode
    if preprocessing.keeps_scale:
        return Frame.about(height, width, rows, columns)
    if height * columns == width * rows or mode == "stretch":
        return Frame(0, 0, height, width)
    return Frame.about(height, width, *in_proportion(height, width, rows, columns, within=mode == "centre crop"))


def resized(pixels: PixelArray, preprocessing: Preprocessing, channels: Sequence[str] = ()) -> PixelArray:
    """An image of any size at the input size.

    Parameters
    ----------
    pixels : ndarray, H×W×C uint8 or float32
        As decoded.
    preprocessing : Preprocessing
        Input size, resize mode, and colour space or channels.
    channels : sequence of str
        Names of the image's channels; none where they are grey, or red, green and blue.

    Returns
    -------
    ndarray, H×W×C of the same type
        Of the input's sides. C is as many as the preprocessing names; or 3, or 1 for grey (luma weights of ITU-R
        BT.601). A border has the mean colour of the edge of what is seen of the image.

    Raises
    ------
    BadValue
        If the image lacks a channel, or has others than the colour space is made of.
    """
    rows, columns = preprocessing.sides
    frame = frame_of(pixels.shape[0], pixels.shape[1], preprocessing)
    top, left = max(0, frame.top), max(0, frame.left)
    pixels = pixels[top : frame.top + frame.height, left : frame.left + frame.width]
    bordered = pixels.shape[:2] != (frame.height, frame.width)
    if pixels.dtype != np.uint8 or pixels.shape[2] != 3 or preprocessing.channel_names or channels:
        return _planes(_seen_channels(pixels, preprocessing, channels), preprocessing, frame)
    if pixels.shape == (rows, columns, 3) and preprocessing.colour_space != "grey":
        return pixels
    picture = Image.fromarray(pixels)
    if bordered:
        edge = _edge(pixels)
        framed = Image.new("RGB", (frame.width, frame.height), (round(edge[0]), round(edge[1]), round(edge[2])))
        framed.paste(picture, (left - frame.left, top - frame.top))
        picture = framed
    if preprocessing.colour_space == "grey":
        picture = picture.convert("L")
    if picture.size != (columns, rows):
        picture = picture.resize((columns, rows), Image.Resampling.BILINEAR, reducing_gap=GAP)
    return np.asarray(picture).reshape(rows, columns, -1)


def _edge(pixels: PixelArray) -> NDArray[np.floating[Any]]:
    """Mean colour of the outermost rows and columns."""
    return np.asarray(
        np.concatenate([pixels[0], pixels[-1], pixels[:, 0], pixels[:, -1]]).mean(axis=0, dtype=np.float64)
    )


def _seen_channels(pixels: PixelArray, preprocessing: Preprocessing, channels: Sequence[str]) -> PixelArray:
    """The channels that the network sees, in its order."""
    wanted = preprocessing.channel_names
    if wanted:
        if lacking := [name for name in wanted if name not in channels]:
            present = ", ".join(channels) or "those of an ordinary picture"
            why = f"the images' channels are {present}"
            raise BadValue(f"There is no channel «{lacking[0]}»", why, "Name those that the images have")
        if wanted == tuple(channels):
            return pixels
        return pixels[:, :, [list(channels).index(name) for name in wanted]]
    count = pixels.shape[2]
    if not are_ordinary(channels):
        why = f"the images have {count} channels: {', '.join(channels)}"
        remedy = "Name the channels that the network should see, with preprocessing.channel_names"
        raise BadValue("The images have no colours", why, remedy)
    if preprocessing.colour_space != "grey":
        return pixels if count == 3 else np.repeat(pixels, 3, axis=2)
    if count == 1:
        return pixels
    return of_levels(levels(pixels) @ LUMA_CHROMA[0], pixels.dtype)[:, :, None]


def _planes(pixels: PixelArray, preprocessing: Preprocessing, frame: Frame) -> PixelArray:
    """Pixels of any channels at the input size, channel by channel."""
    rows, columns = preprocessing.sides
    height, width, channels = pixels.shape
    if (height, width) != (frame.height, frame.width):
        edge = _edge(pixels)
        framed = np.empty((frame.height, frame.width, channels), pixels.dtype)
        framed[:] = np.rint(edge) if pixels.dtype == np.uint8 else edge
        top, left = max(0, -frame.top), max(0, -frame.left)
        framed[top : top + height, left : left + width] = pixels
        pixels = framed
    if pixels.shape[:2] == (rows, columns):
        return np.ascontiguousarray(pixels)
    out = np.empty((rows, columns, channels), pixels.dtype)
    for channel in range(channels):
        plane = Image.fromarray(np.ascontiguousarray(pixels[:, :, channel]))
        out[:, :, channel] = np.asarray(plane.resize((columns, rows), Image.Resampling.BILINEAR, reducing_gap=GAP))
    return out


def made_square(images: PixelArray) -> PixelArray:
    """Images N×H×W×C stretched along their shorter side to S×S, S the longer one; square ones as they are."""
    rows, columns = images.shape[1:3]
    if rows == columns:
        return images
    side = max(rows, columns)
    out = np.empty((len(images), side, side, images.shape[3]), images.dtype)
    for image, square in zip(images, out, strict=True):
        for channel in range(images.shape[3]):
            stretched = Image.fromarray(image[:, :, channel]).resize((side, side), Image.Resampling.BILINEAR)
            square[:, :, channel] = np.asarray(stretched)
    return out


def in_proportion(height: int, width: int, rows: int, columns: int, within: bool) -> tuple[int, int]:
    """Rows and columns of the largest picture of other proportions in one, or of the smallest about it; at least 1."""
    scale = (min if within else max)(height / rows, width / columns)
    return max(1, round(rows * scale)), max(1, round(columns * scale))


LUMA_CHROMA = np.array([[0.299, 0.587, 0.114], [-0.168736, -0.331264, 0.5], [0.5, -0.418688, -0.081312]], np.float32)
"""Rows that make luma and two chromas (about 0) of red, green and blue (ITU-R BT.601)."""
NEIGHBOURHOOD = 1 / 32
"""Of the shorter side: standard deviation of the window whose mean and deviation local contrast uses."""
AT_ONCE = 64
GAP = 3.0
"""Times that a picture may be larger than what it is reduced to before blocks of its pixels are averaged first."""


@dataclass(frozen=True)
class Preprocessor:
    """All that is done to an image, with the statistics that were measured on the training set only.

    First the input size and the colour space, then the normalisation: local contrast where it is asked for, and a
    linear change of each channel.

    Attributes
    ----------
    settings : Preprocessing
        What was asked for.
    mean, std : tuple of float
        Of the training images' channels, in 0–1 without local contrast; 0 and 1 where nothing is measured.
    pixel_format : PixelFormat
        Bits, scale and channels of images, as they were for the training images; see `decode`.
    """

    settings: Preprocessing
    mean: tuple[float, ...]
    std: tuple[float, ...]
    pixel_format: PixelFormat = PICTURE

    @classmethod
    def plain(cls, settings: Preprocessing) -> Preprocessor:
        """Mean 0 and standard deviation 1."""
        return cls(settings, (0.0,) * settings.channels, (1.0,) * settings.channels)

    @classmethod
    def measured(cls, images: PixelArray | Chosen, settings: Preprocessing) -> Preprocessor:
        """Mean and standard deviation of N×H×W×C training images of either type, in one pass of 64-bit sums.

        They are taken a few hundred at a time, so that there may be more of them than fit into memory.
        """
        plain = cls.plain(settings)
        if settings.normalisation == "0-1":
            return plain
        count = 0
        sums = np.zeros(settings.channels)
        squares = np.zeros(settings.channels)
        for first in range(0, len(images), AT_ONCE):
            breathe()
            values = plain.apply(images[first : first + AT_ONCE]).reshape(-1, settings.channels)
            count += len(values)
            sums += values.sum(axis=0, dtype=np.float64)
            squares += np.einsum("ij,ij->j", values, values, dtype=np.float64)
        mean = sums / count
        std = np.sqrt(np.maximum(squares / count - mean**2, 0))
        return cls(settings, tuple(mean.tolist()), tuple(max(float(s), 1e-3) for s in std))

    def opened(self, file: Path) -> PixelArray:
        """An image file at the input size H×W×C; `BadFile` with the reason if it cannot be read."""
        return self.picture(str(file)).pixels

    def picture(self, name: str) -> Picture:
        """An image file, or a page of one (see `pages`), with its pixels at the input size H×W×C.

        Raises
        ------
        BadFile
            If it cannot be read, or has no such page.
        """
        picture = decode_named(name, self.pixel_format)
        return replace(picture, pixels=self.resized(picture.pixels), values=None)

    def resized(self, pixels: PixelArray) -> PixelArray:
        """An image as decoded, of the format's channels, at the input size H×W×C."""
        return resized(pixels, self.settings, self.pixel_format.channels)

    def apply(self, images: PixelArray) -> NDArray[np.float32]:
        """Images N×H×W×C, as uint8 or as float32 in 0–1, as the network takes them: float32, mean about 0."""
        if images.shape[-1] != len(self.mean):
            raise BadValue(
                "The images do not fit the model",
                f"they have {images.shape[-1]} channels and it was trained on {len(self.mean)}",
                "Prepare them as the model's plan says",
            )
        scale = 255.0 if images.dtype == np.uint8 else 1.0
        if self._steps_first:
            images, scale = self._stepped(images, scale), 1.0
        columns = images.shape[-2]  # a row at a time: what is repeated over so few channels is slow
        factor = np.tile(np.array([1 / (scale * d) for d in self.std], np.float32), columns)
        offset = np.tile(np.array([m / d for m, d in zip(self.mean, self.std, strict=True)], np.float32), columns)
        out = images.reshape(*images.shape[:-2], len(factor)) * factor
        out -= offset
        return out.reshape(images.shape)

    @staticmethod
    def targets(images: PixelArray) -> NDArray[np.float32]:
        """Images N×H×W×C as networks that draw should draw them: 0–1, whatever is done to what they see."""
        return images * np.float32(1 / 255) if images.dtype == np.uint8 else images.astype(np.float32)

    def pixels(self, values: NDArray[np.floating]) -> PixelArray:
        """Images 0–1 as pixels of the format's type, the other way round from `targets`; what is no number is 0."""
        values = np.nan_to_num(values)
        if self.pixel_format.dtype == np.uint8:
            return np.asarray(np.rint(values * 255).clip(0, 255), np.uint8)
        return np.asarray(values.clip(0, 1), np.float32)

    @property
    def _steps_first(self) -> bool:
        """Whether something comes before the linear change."""
        return self.settings.has_chroma or self.settings.normalisation == "local contrast"

    def _stepped(self, images: PixelArray, scale: float) -> NDArray[np.float32]:
        values = images * np.float32(1 / scale)
        if self.settings.has_chroma:
            values = values @ LUMA_CHROMA.T
        return local_contrast(values) if self.settings.normalisation == "local contrast" else values


def local_contrast(images: NDArray[np.float32]) -> NDArray[np.float32]:
    """Every value less the mean of its neighbourhood, over the neighbourhood's deviation.

    Where the deviation is below the image's usual one, that is taken instead, so that flat ground does not turn to
    noise. Takes N×H×W×C float32 and gives as much, in deviations. When not to use it: if overall colour or
    brightness tells the classes apart, for it is lost. Cost: two blurs an image, about ten times the plain levels.
    Source: Jarrett, Kavukcuoglu, Ranzato and LeCun 2009, section 3.1, channel by channel.
    """
    from scipy.ndimage import gaussian_filter  # only here: the plain levels do without it

    wide = max(1.0, min(images.shape[1:3]) * NEIGHBOURHOOD)
    window = (0, wide, wide, 0)
    centred = images - gaussian_filter(images, window, mode="nearest")
    spread = np.sqrt(np.maximum(gaussian_filter(centred * centred, window, mode="nearest"), 0))
    usual = spread.mean(axis=(1, 2), keepdims=True)
    return np.asarray(centred / np.maximum(np.maximum(spread, usual), 1e-3), np.float32)
