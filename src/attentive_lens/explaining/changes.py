"""Changes tried on one image, to see what the answer hangs on.

Each takes pixels H×W×C, see `pixel_format.PixelArray`, and the settings of its kind by name, and gives a new image. To
add one: a function and one line in `CHANGES`, and its settings in ``change_settings``.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import affine_transform, gaussian_filter, median_filter, shift

from attentive_lens.core.random import random_generator
from attentive_lens.errors import BadValue, NotHere
from attentive_lens.explaining.change_settings import ChangeSettings
from attentive_lens.explaining.covering import filling
from attentive_lens.explaining.objects import object_alone, without_object
from attentive_lens.images.pixel_format import PixelArray, levels, of_levels

Pixels = PixelArray


def _box(pixels: Pixels, row: float, column: float, side: float, across: float = 0) -> tuple[slice, slice]:
    """A square, or with ``across`` a rectangle so wide and ``side`` tall."""
    height, width = pixels.shape[:2]
    across = across or side
    top, left = round((row - side / 2) * height), round((column - across / 2) * width)
    tall, wide = max(1, round(side * height)), max(1, round(across * width))
    return slice(max(0, top), max(0, top + tall)), slice(max(0, left), max(0, left + wide))


def _disc(pixels: Pixels, row: float, column: float, radius: float) -> NDArray[np.bool_]:
    height, width = pixels.shape[:2]
    down, across = np.mgrid[:height, :width]
    inside: NDArray[np.bool_] = ((down + 0.5) / height - row) ** 2 + ((across + 0.5) / width - column) ** 2 <= radius**2
    return inside


def cover(pixels: Pixels, row: float, column: float, side: float, across: float = 0) -> Pixels:
    """A square in the image's mean colour; with ``across`` a rectangle so wide and ``side`` tall."""
    out = pixels.copy()
    out[_box(pixels, row, column, side, across)] = of_levels(filling(levels(pixels)), pixels.dtype)
    return out


def blur(pixels: Pixels, row: float, column: float, side: float, width: float = 0.06) -> Pixels:
    """A square out of focus; ``width`` is the blur's deviation."""
    sigma = width * pixels.shape[0]
    box, out = _box(pixels, row, column, side), pixels.copy()
    out[box] = of_levels(gaussian_filter(levels(pixels), (sigma, sigma, 0)), pixels.dtype)[box]
    return out


def brush(
    pixels: Pixels, row: float, column: float, radius: float, red: float = 0, green: float = 0, blue: float = 0
) -> Pixels:
    """A disc of one colour, 0–1 for each channel (red alone for grey images, red in any beyond the third)."""
    out, channels = pixels.copy(), pixels.shape[2]
    colour = np.array([red, green, blue, *(red,) * channels][:channels])
    out[_disc(pixels, row, column, radius)] = of_levels(255 * colour, pixels.dtype)
    return out


def clone(
    pixels: Pixels, row: float, column: float, radius: float, from_row: float, from_column: float
) -> Pixels:  # fmt: skip
    """A disc painted with what stands at another place."""
    height, width = pixels.shape[:2]
    moved = np.roll(pixels, (round((row - from_row) * height), round((column - from_column) * width)), axis=(0, 1))
    out, where = pixels.copy(), _disc(pixels, row, column, radius)
    out[where] = moved[where]
    return out


def translated(pixels: Pixels, down: float, across: float) -> Pixels:
    """The whole image moved; the border repeats."""
    by = (down * pixels.shape[0], across * pixels.shape[1], 0)
    return of_levels(shift(levels(pixels), by, order=1, mode="nearest"), pixels.dtype)


def rotated(pixels: Pixels, degrees: float) -> Pixels:
    """The whole image rotated counter-clockwise about its middle; the border repeats."""
    angle = np.deg2rad(degrees)
    return _about_middle(pixels, np.array([[np.cos(angle), np.sin(angle)], [-np.sin(angle), np.cos(angle)]]))


def scaled(pixels: Pixels, factor: float) -> Pixels:
    """The whole image enlarged (above 1) or made smaller about its middle; the border repeats."""
    return _about_middle(pixels, np.eye(2) / factor)


def brightened(pixels: Pixels, factor: float) -> Pixels:
    """All values times a factor."""
    return of_levels(levels(pixels) * factor, pixels.dtype)


def denoised(pixels: Pixels, window: float = 3) -> Pixels:
    """The median of every window×window pixels."""
    return np.asarray(median_filter(pixels, size=(int(window), int(window), 1)))


def noisy(pixels: Pixels, deviation: float, seed: float = 0) -> Pixels:
    """Gaussian noise added to every value; ``deviation`` is a part of the whole range."""
    noise = random_generator(int(seed), "noise tried").standard_normal(pixels.shape)
    return of_levels(levels(pixels) + 255 * deviation * noise, pixels.dtype)


def mixed(pixels: Pixels, image: Pixels, share: float) -> Pixels:
    """So much of another image, 0–1, and the rest of this one."""
    return of_levels((1 - share) * levels(pixels) + share * levels(image), pixels.dtype)


def flattened(pixels: Pixels, channel: int) -> Pixels:
    """One channel, counted from 1, replaced by its own mean: what is where in it is gone, and its brightness stays."""
    if not 1 <= channel <= pixels.shape[2]:
        why = f"the image has {pixels.shape[2]}"
        raise BadValue(f"There is no channel {channel}", why, "Choose one of these, counted from 1")
    out = pixels.copy()
    mean = levels(pixels[:, :, channel - 1]).mean()
    out[:, :, channel - 1] = of_levels(np.asarray(mean), pixels.dtype)
    return out


def _about_middle(pixels: Pixels, matrix: NDArray[np.float64]) -> Pixels:
    middle = (np.array(pixels.shape[:2]) - 1) / 2
    offset = middle - matrix @ middle
    channels = [
        affine_transform(levels(pixels[:, :, k]), matrix, offset, order=1, mode="nearest")
        for k in range(pixels.shape[2])
    ]
    return of_levels(np.stack(channels, axis=2), pixels.dtype)


CHANGES: dict[str, Callable[..., Pixels]] = {
    "cover": cover,
    "blur": blur,
    "brush": brush,
    "clone": clone,
    "translate": translated,
    "rotate": rotated,
    "scale": scaled,
    "brighten": brightened,
    "denoise": denoised,
    "noise": noisy,
    "mix": mixed,
    "flatten": flattened,
    "cover_object": without_object,
    "cover_rest": object_alone,
}


def changed(
    pixels: Pixels,
    settings: ChangeSettings,
    other: Pixels | None = None,
    covered: NDArray[np.float32] | None = None,
) -> Pixels:
    """The image H×W×C after a change.

    With the other image of that shape that its settings name, if any, and where its object is, see
    `outlines.coverage`; `NotHere` where a change needs that and it is not known.
    """
    values = settings.write()
    if settings.of_object:
        if covered is None:
            raise NotHere(f"«{settings.label}» cannot be tried", "the image has no outline", "Draw one in Images first")
        values["covered"] = covered
    if other is not None:
        values = {name: other if known.names == "image" else values[name] for name, known in settings.specs().items()}
    return CHANGES[settings.kind](pixels, **values)
