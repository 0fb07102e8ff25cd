"""What pixels are: light, colour, sharpness, noise."""

from __future__ import annotations

import io
import math

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.images.augmentation.base import Tonal
from attentive_lens.images.augmentation.colour import luma
from attentive_lens.images.augmentation.compiled import stretch
from attentive_lens.plan.augmentation import (
    Blur,
    Brightness,
    ColourCast,
    Contrast,
    Gamma,
    Grey,
    Hue,
    Jpeg,
    Noise,
    Saturation,
    Sharpen,
)


class BrightnessChange(Tonal):
    """All channels times one factor."""

    def apply(self, step: Brightness, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place, cut off at 1."""
        stretch(image, 0.0, random.uniform(*step.range))


class ContrastChange(Tonal):
    """About the mean of the whole image."""

    def apply(self, step: Contrast, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place, cut off at 0 and 1."""
        stretch(image, float(image.sum()) / image.size, random.uniform(*step.range))


class SaturationChange(Tonal):
    """About each pixel’s own luma; a grey image stays as it is."""

    def apply(self, step: Saturation, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place, cut off at 0 and 1."""
        factor = np.float32(random.uniform(*step.range))
        grey = luma(image)
        image -= grey
        image *= factor
        image += grey
        np.clip(image, 0, 1, out=image)


class HueChange(Tonal):
    """A rotation of red, green and blue about the grey axis; a grey image stays as it is."""

    def apply(self, step: Hue, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place, cut off at 0 and 1."""
        angle = math.radians(random.uniform(*step.range))
        if image.shape[2] != 3:
            return
        c, s = math.cos(angle), math.sin(angle) / math.sqrt(3)
        third = (1 - c) / 3
        turn = np.array(
            [[c + third, third - s, third + s], [third + s, c + third, third - s], [third - s, third + s, c + third]],
            np.float32,
        )
        np.clip(image @ turn.T, 0, 1, out=image)


class ColourCastChange(Tonal):
    """A factor for each of red, green and blue (von Kries 1902), whose product is 1; a grey image stays as it is."""

    def apply(self, step: ColourCast, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place, cut off at 1."""
        factors = np.maximum(random.uniform(*step.range, 3), 1e-3)
        if image.shape[2] == 3:
            image *= (factors / np.cbrt(factors.prod())).astype(np.float32)
            np.minimum(image, 1, out=image)


class GammaChange(Tonal):
    """Levels raised to an exponent."""

    def apply(self, step: Gamma, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place."""
        np.power(image, np.float32(random.uniform(*step.range)), out=image)


class BlurChange(Tonal):
    """A Gaussian blur; the border repeats."""

    def apply(self, step: Blur, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place."""
        width = random.uniform(*step.range)
        if width > 0:
            from scipy.ndimage import gaussian_filter  # only here: training begins sooner without

            image[...] = gaussian_filter(image, (width, width, 0), mode="nearest")


class SharpenChange(Tonal):
    """The difference from a blur of one pixel, added once more."""

    def apply(self, step: Sharpen, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place, cut off at 0 and 1."""
        amount = np.float32(random.uniform(*step.range))
        from scipy.ndimage import gaussian_filter  # as above

        soft = gaussian_filter(image, (1, 1, 0), mode="nearest")
        image += amount * (image - soft)
        np.clip(image, 0, 1, out=image)


class NoiseChange(Tonal):
    """Normal, each pixel and channel by itself."""

    def apply(self, step: Noise, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place, cut off at 0 and 1."""
        width = np.float32(random.uniform(*step.range))
        image += random.standard_normal(image.shape, np.float32) * width
        np.clip(image, 0, 1, out=image)


class GreyChange(Tonal):
    """Every channel becomes the luma."""

    def apply(self, step: Grey, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place."""
        image[...] = luma(image)


class JpegChange(Tonal):
    """Packed and unpacked in memory."""

    def apply(self, step: Jpeg, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place, at 256 levels."""
        quality = round(random.uniform(*step.range))
        pixels = (image * 255 + 0.5).astype(np.uint8)
        picture = Image.fromarray(pixels if pixels.shape[2] == 3 else pixels[:, :, 0])
        packed = io.BytesIO()
        picture.save(packed, "JPEG", quality=quality)
        with Image.open(packed) as unpacked:
            image[...] = np.asarray(unpacked, np.float32).reshape(image.shape) / 255
