"""How strongly each pixel of a map is drawn: one rule for every face."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.display import Display, shown_as
from attentive_lens.images.pixel_format import PixelArray

TOP = 99.5
"""Percentile of the map's values that is drawn strongest: single pixels do not decide."""


def strengths(map_: NDArray[np.float32], signed: bool = False, top: float | None = None) -> NDArray[np.float32]:
    """Of each pixel of a map H×W, 0–1; signed, −1 to 1. A map without a value above zero is drawn nowhere.

    ``top`` is the value drawn strongest, the map's own if left out, so that maps can be drawn alike. What is no finite
    number is drawn nowhere.
    """
    map_ = _finite(map_)
    whole = scale(map_, signed) if top is None else top
    if whole <= 0:
        return np.zeros_like(map_, np.float32)
    return np.asarray(np.clip(map_ / np.float32(whole), -1 if signed else 0, 1), np.float32)


def scale(map_: NDArray[np.float32], signed: bool = False) -> float:
    """The value of a map that is drawn strongest; 0 for a map that has none to draw."""
    map_ = _finite(map_)
    values = np.abs(map_) if signed else np.maximum(map_, 0)
    top = float(np.percentile(values, TOP))
    return top if top > 0 else float(values.max(initial=0.0))


def _finite(map_: NDArray[np.float32]) -> NDArray[np.float32]:
    return np.asarray(np.where(np.isfinite(map_), map_, 0), map_.dtype)


def coloured(
    map_: NDArray[np.float32],
    colours: tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.float32]],
    signed: bool = False,
    top: float | None = None,
) -> NDArray[np.uint8]:
    """A map H×W as a transparent picture H×W×4 uint8, to be laid over its image.

    ``colours`` are RGB of weak, strong and negative values, 0–255: unsigned maps go from weak to strong, signed
    ones are strong above zero and negative below, nothing at zero.
    """
    weak, strong, negative = colours
    strength = strengths(map_, signed, top)[:, :, None]
    tint = np.where(strength > 0, strong, negative) if signed else weak + (strong - weak) * strength
    alpha = 255 * np.abs(strength) ** 0.6
    return np.concatenate([tint, alpha], axis=2).astype(np.uint8)


OCHRE = np.array([0xB9, 0x82, 0x18], np.float32)
VERMILION = np.array([0xB5, 0x3A, 0x20], np.float32)
PETROL = np.array([0x0F, 0x6B, 0x72], np.float32)
PAPER = np.array([0xF4, 0xF1, 0xEA], np.float32)


def over_image(pixels: PixelArray, map_: NDArray[np.float32], signed: bool = False) -> NDArray[np.uint8]:
    """A map over its greyed image: S×2S×3 uint8, the image and beside it the map.

    Unsigned, transparent to ochre to vermilion; signed, what pulled to the answer said (vermilion) and to the true one
    (petrol). It is drawn as in the window.
    """
    colour = in_colour(pixels)
    picture = coloured(map_, (OCHRE, VERMILION, PETROL), signed).astype(np.float32)
    return _beside(colour, picture[:, :, :3], picture[:, :, 3:] / np.float32(255))


def in_colour(pixels: PixelArray, display: Display | None = None) -> NDArray[np.uint8]:
    """An image as it is shown, H×W×3 uint8; several of them N×H×W×3."""
    shown = (display or shown_as()).shown(pixels)
    return np.repeat(shown, 3, axis=-1) if shown.shape[-1] == 1 else shown


def by_channel(pixels: PixelArray) -> list[NDArray[np.uint8]]:
    """An image H×W×C as pictures H×W×3: itself where it is grey or in colour, else one of each channel."""
    channels = pixels.shape[-1]
    if channels in (1, 3):
        return [in_colour(pixels)]
    return [in_colour(pixels[..., channel : channel + 1]) for channel in range(channels)]


def _beside(colour: NDArray[np.uint8], tint: NDArray[np.float32], alpha: NDArray[np.float32]) -> NDArray[np.uint8]:
    """An image, and beside it its pale copy under a tint."""
    pale = PAPER + 0.45 * (colour.mean(axis=2, keepdims=True) - PAPER)
    return np.concatenate([colour, (pale + (tint - pale) * alpha).astype(np.uint8)], axis=1)


CLASS_COLOURS = (
    "#2F6FB0", "#C98A1B", "#3F8F4E", "#8A4FA3", "#57A9BD", "#8C5A3C",
    "#D0709C", "#66752E", "#27486F", "#B3A63A", "#7A7F86", "#DB9C79",
)  # fmt: skip
"""Of classes by number, again from the first where there are more; never the only sign of a class."""


def class_colour(number: int) -> str:
    """The colour of a class by its number, ``#RRGGBB``."""
    return CLASS_COLOURS[number % len(CLASS_COLOURS)]
