"""What the quality of an image is measured by, and what gives other images the same."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from scipy.ndimage import gaussian_filter

from attentive_lens.core.jobs import paced
from attentive_lens.images.faults.poor import fineness
from attentive_lens.images.pixel_format import PixelArray, levels, of_levels, white_in
from attentive_lens.plan.augmentation import AugmentationStep, Blur, Brightness, ColourCast, Contrast, Saturation

Images = PixelArray
Values = NDArray[np.float64]

WIDTHS = (0.4, 0.6, 0.8, 1.0, 1.25, 1.5, 2.0, 2.5, 3.0, 4.0)
"""Deviations of blurs that are tried, in pixels of a side of 64."""
AT_ONCE = 8
STRONGEST = 4.0
"""Factor, at most, by which levels are changed."""
BEYOND = 1.25
"""Times what was found in mistakes to which training images are changed at most."""


@dataclass(frozen=True)
class Measure:
    """Something measured of every image, and what gives another image a value of it.

    Attributes
    ----------
    low, high : str
        What images with low and with high values do; empty where such a value is no fault.
    values : callable
        Of N images H×W×C uint8 and the heights and widths of their files, N×2: N values, 0 or above.
    imitated : callable
        Of N images and N values: the images with about those values, and how strong a change that took.
    step : callable
        Of that strength: the augmentation step that shows training such images.
    undone : bool
        Whether ``imitated`` can give such images their usual values back.
    """

    low: str
    high: str
    values: Callable[[Images, NDArray[np.int64]], Values]
    imitated: Callable[[Images, Values], tuple[Images, float]]
    step: Callable[[float], AugmentationStep]
    undone: bool

    def short(self, high: bool) -> str:
        """What images with high values do, or with low ones."""
        return self.high if high else self.low


def _in_pieces(values: Callable[[Images], Values], pixels: Images) -> Values:
    """Of any number of images, a few at a time."""
    parts = [values(pixels[first : first + AT_ONCE]) for first in paced(range(0, len(pixels), AT_ONCE), 1)]
    return np.concatenate(parts) if parts else np.zeros(0)


def _fineness(pixels: Images) -> Values:
    grey = np.asarray(pixels.mean(axis=3, dtype=np.float32) / white_in(pixels), np.float32)
    return np.exp(fineness(grey).astype(np.float64))


def _blurred(pixels: Images, targets: Values) -> tuple[Images, float]:
    """By the least width that brings half of them to their targets."""
    blurred, sigma = pixels, 0.0
    for width in WIDTHS:
        if np.median(_in_pieces(_fineness, blurred) / targets) <= 1:
            break
        sigma = width * min(pixels.shape[1:3]) / 64
        blurred = np.stack([gaussian_filter(image, (sigma, sigma, 0)) for image in paced(pixels, 4)])
    return blurred, sigma


def _level(pixels: Images) -> Values:
    return np.asarray(pixels.mean(axis=(1, 2, 3), dtype=np.float64) / white_in(pixels))


def _contrast(pixels: Images) -> Values:
    return np.asarray(pixels.mean(axis=3, dtype=np.float64).std(axis=(1, 2)) / white_in(pixels))


def _colour(pixels: Images) -> Values:
    values = levels(pixels)
    return np.asarray(np.abs(values - values.mean(axis=3, keepdims=True)).mean(axis=(1, 2, 3)) / 255)


def _stretched(
    measure: Callable[[Images], Values], centre: Callable[[NDArray[np.float64]], NDArray[np.float64]]
) -> Callable[[Images, Values], tuple[Images, float]]:
    """What stretches images about a centre until they have values that grow with the distance from it."""

    def imitated(pixels: Images, targets: Values) -> tuple[Images, float]:
        factors = np.clip(targets / np.maximum(_in_pieces(measure, pixels), 1e-3), 0, STRONGEST)
        changed = np.empty_like(pixels)
        for first in paced(range(0, len(pixels), AT_ONCE), 1):
            part = slice(first, first + AT_ONCE)
            values = levels(pixels[part])
            middle = centre(values)
            stretched = middle + (values - middle) * factors[part, None, None, None]
            changed[part] = of_levels(stretched, pixels.dtype)
        return changed, float(np.median(factors))

    return imitated


def _red_to_blue(pixels: Images) -> Values:
    """Mean red over mean blue; 1 for grey images."""
    means = pixels.mean(axis=(1, 2), dtype=np.float64) * (255 / white_in(pixels)) + 1.0
    return np.asarray(means[:, 0] / means[:, -1])


def _green_to_both(pixels: Images) -> Values:
    """Mean green over the geometric mean of red and blue; 1 for grey images."""
    means = pixels.mean(axis=(1, 2), dtype=np.float64) * (255 / white_in(pixels)) + 1.0
    return np.asarray(means[:, means.shape[1] // 2] / np.sqrt(means[:, 0] * means[:, -1]))


def _tinted(
    values: Callable[[Images], Values], gains: tuple[float, float, float]
) -> Callable[[Images, Values], tuple[Images, float]]:
    """What gives images another balance of their colours: channels times powers ``gains`` of a factor (von Kries)."""

    def imitated(pixels: Images, targets: Values) -> tuple[Images, float]:
        factors = np.clip(targets / np.maximum(_in_pieces(values, pixels), 1e-3), 1 / STRONGEST, STRONGEST)
        if pixels.shape[3] != 3:
            return pixels.copy(), float(np.median(factors))
        changed = np.empty_like(pixels)
        for first in paced(range(0, len(pixels), AT_ONCE), 1):
            part = slice(first, first + AT_ONCE)
            by_channel = factors[part, None, None, None] ** np.array(gains)
            changed[part] = of_levels(levels(pixels[part]) * by_channel, pixels.dtype)
        return changed, float(np.median(factors))

    return imitated


def _cast(factor: float) -> AugmentationStep:
    """Casts to either side, somewhat stronger than a balance that is so many times the usual."""
    most = min(STRONGEST, max(factor, 1 / factor) ** 0.5 * BEYOND)
    return ColourCast(range=(round(1 / most, 2), round(most, 2)))


def _enlarged(pixels: Images, targets: Values) -> tuple[Images, float]:
    """As if the shorter sides of their files had so many pixels; as they are where that is no less than they have."""
    rows, columns = pixels.shape[1:3]
    side = min(rows, columns)
    smaller = np.clip(np.round(targets), 1, side).astype(int)
    enlarged = pixels.copy()
    for k in paced(np.flatnonzero(smaller < side).tolist(), 4):
        few = (max(1, round(columns * smaller[k] / side)), max(1, round(rows * smaller[k] / side)))
        for channel in range(pixels.shape[3]):
            reduced = Image.fromarray(np.ascontiguousarray(pixels[k, :, :, channel])).resize(few, Image.Resampling.BOX)
            enlarged[k, :, :, channel] = np.asarray(reduced.resize((columns, rows), Image.Resampling.BILINEAR))
    return enlarged, float(0.5 * side / np.median(smaller))


def _about(factor: float, usual: tuple[float, float]) -> tuple[float, float]:
    """A range that reaches a factor and somewhat beyond, and what is usual besides."""
    return round(min(usual[0], factor / BEYOND), 2), round(min(STRONGEST, max(usual[1], factor * BEYOND)), 2)


def _blur(sigma: float) -> AugmentationStep:
    return Blur(range=(0.0, round(min(20.0, sigma * BEYOND), 2)))


MEASURES: dict[str, Measure] = {
    "focus": Measure("are softer than usual", "", lambda pixels, _: _fineness(pixels), _blurred, _blur, False),
    "brightness": Measure(
        "are darker than usual",
        "are lighter than usual",
        lambda pixels, _: _level(pixels),
        _stretched(_level, lambda pixels: np.zeros((len(pixels), 1, 1, 1))),
        lambda factor: Brightness(range=_about(factor, Brightness().range)),
        True,
    ),
    "contrast": Measure(
        "have less contrast than usual",
        "have more contrast than usual",
        lambda pixels, _: _contrast(pixels),
        _stretched(_contrast, lambda pixels: pixels.mean(axis=(1, 2, 3), keepdims=True)),
        lambda factor: Contrast(range=_about(factor, Contrast().range)),
        True,
    ),
    "colour": Measure(
        "are paler than usual",
        "are more colourful than usual",
        lambda pixels, _: _colour(pixels),
        _stretched(_colour, lambda pixels: pixels.mean(axis=3, keepdims=True)),
        lambda factor: Saturation(range=_about(factor, Saturation().range)),
        True,
    ),
    "red to blue": Measure(
        "are bluer than usual",
        "are redder than usual",
        lambda pixels, _: _red_to_blue(pixels),
        _tinted(_red_to_blue, (0.5, 0.0, -0.5)),
        _cast,
        True,
    ),
    "green to red and blue": Measure(
        "are more purple than usual",
        "are greener than usual",
        lambda pixels, _: _green_to_both(pixels),
        _tinted(_green_to_both, (-1 / 3, 2 / 3, -1 / 3)),
        _cast,
        True,
    ),
    "file size": Measure(
        "are smaller files than usual",
        "",
        lambda _, sizes: sizes.min(axis=1).astype(np.float64),
        _enlarged,
        _blur,
        False,
    ),
}


def measured(pixels: Images, sizes: NDArray[np.int64]) -> dict[str, Values]:
    """All measures of N images H×W×C uint8 whose files have such heights and widths, N×2."""
    return {word: measure.values(pixels, sizes) for word, measure in MEASURES.items()}
