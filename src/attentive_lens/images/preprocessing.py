"""What is done to every image before a network sees it: the input size, then colour space and normalisation."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.core.jobs import breathe
from attentive_lens.errors import BadValue
from attentive_lens.images.decoding import decode
from attentive_lens.images.rows import Chosen
from attentive_lens.plan.preprocessing import Preprocessing


def resized(pixels: NDArray[np.uint8], preprocessing: Preprocessing) -> NDArray[np.uint8]:
    """An image of any size at the input size.

    Parameters
    ----------
    pixels : ndarray, H×W×3 uint8
        As decoded.
    preprocessing : Preprocessing
        Input size, resize mode and colour space.

    Returns
    -------
    ndarray, H×W×C uint8
        Of the input's sides. C is 3, or 1 for grey (luma weights of ITU-R BT.601). A border has the mean colour of the
        image's edge.
    """
    rows, columns = preprocessing.sides
    height, width = pixels.shape[:2]
    is_other = height * columns != width * rows
    if preprocessing.resize_mode == "centre crop" and is_other:
        tall, wide = in_proportion(height, width, rows, columns, within=True)
        top, left = (height - tall) // 2, (width - wide) // 2
        pixels = pixels[top : top + tall, left : left + wide]
    if pixels.shape == (rows, columns, 3) and preprocessing.colour_space != "grey":
        return pixels
    picture = Image.fromarray(pixels)
    if preprocessing.resize_mode == "letterbox" and is_other:
        tall, wide = in_proportion(height, width, rows, columns, within=False)
        edge = np.concatenate([pixels[0], pixels[-1], pixels[:, 0], pixels[:, -1]]).mean(axis=0)
        framed = Image.new("RGB", (wide, tall), (round(edge[0]), round(edge[1]), round(edge[2])))
        framed.paste(picture, ((wide - width) // 2, (tall - height) // 2))
        picture = framed
    if preprocessing.colour_space == "grey":
        picture = picture.convert("L")
    if picture.size != (columns, rows):
        picture = picture.resize((columns, rows), Image.Resampling.BILINEAR, reducing_gap=3.0)
    return np.asarray(picture).reshape(rows, columns, -1)


def made_square(images: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """Images N×H×W×C stretched along their shorter side to S×S, S the longer one; square ones as they are."""
    rows, columns = images.shape[1:3]
    if rows == columns:
        return images
    side = max(rows, columns)
    out = np.empty((len(images), side, side, images.shape[3]), np.uint8)
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
    white : int
        The value that is white in files of more than 8 bits a channel, as it was for the training images; see `decode`.
    """

    settings: Preprocessing
    mean: tuple[float, ...]
    std: tuple[float, ...]
    white: int = 0

    @classmethod
    def plain(cls, settings: Preprocessing) -> Preprocessor:
        """Mean 0 and standard deviation 1."""
        return cls(settings, (0.0,) * settings.channels, (1.0,) * settings.channels)

    @classmethod
    def measured(cls, images: NDArray[np.uint8] | Chosen, settings: Preprocessing) -> Preprocessor:
        """Mean and standard deviation of N×H×W×C uint8 training images, in one pass of 64-bit sums.

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

    def opened(self, file: Path) -> NDArray[np.uint8]:
        """An image file at the input size H×W×C; `BadFile` with the reason if it cannot be read."""
        return self.resized(decode(file, self.white).pixels)

    def resized(self, pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
        """An image as decoded, of three channels, at the input size H×W×C."""
        return resized(pixels, self.settings)

    def apply(self, images: NDArray[np.uint8] | NDArray[np.float32]) -> NDArray[np.float32]:
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
    def targets(images: NDArray[np.uint8]) -> NDArray[np.float32]:
        """Images N×H×W×C uint8 as networks that draw should draw them: 0–1, whatever is done to what they see."""
        return images * np.float32(1 / 255)

    @staticmethod
    def pixels(values: NDArray[np.floating]) -> NDArray[np.uint8]:
        """Images 0–1 as uint8, the other way round from `targets`; what is no number is 0."""
        return np.asarray(np.rint(np.nan_to_num(values) * 255).clip(0, 255), np.uint8)

    @property
    def _steps_first(self) -> bool:
        """Whether something comes before the linear change."""
        return self.settings.colour_space == "luma-chroma" or self.settings.normalisation == "local contrast"

    def _stepped(self, images: NDArray[np.uint8] | NDArray[np.float32], scale: float) -> NDArray[np.float32]:
        values = images * np.float32(1 / scale)
        if self.settings.colour_space == "luma-chroma":
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
