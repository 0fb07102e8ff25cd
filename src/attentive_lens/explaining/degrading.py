"""Ways in which pictures are worse than those that were trained on, each in grades from slight to strong.

To add one: a function and a line in `DEGRADATIONS`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from io import BytesIO

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from scipy.ndimage import gaussian_filter

from attentive_lens.core.random import random_generator
from attentive_lens.explaining.changes import brightened, rotated, translated
from attentive_lens.images.pixel_format import PixelArray, eight_bits, levels, of_levels

Pixels = PixelArray


@dataclass(frozen=True)
class Degradation:
    """One way.

    Attributes
    ----------
    what : str
        In words, for people.
    unit : str
        Behind a grade.
    grades : tuple of float
        From slight to strong.
    apply : callable
        Gives an image H×W×C at a grade; the number is the image's own, for what is drawn by lot.
    """

    what: str
    unit: str
    grades: tuple[float, ...]
    apply: Callable[[Pixels, float, int], Pixels]


def _blurred(pixels: Pixels, grade: float, number: int) -> Pixels:
    del number
    sigma = grade / 100 * pixels.shape[0]
    return of_levels(gaussian_filter(levels(pixels), (sigma, sigma, 0), mode="nearest"), pixels.dtype)


def _noisy(pixels: Pixels, grade: float, number: int) -> Pixels:
    noise = random_generator(number, "noise").normal(0, grade * 2.55, pixels.shape)
    return of_levels(levels(pixels) + noise, pixels.dtype)


def _contrasted(pixels: Pixels, grade: float, number: int) -> Pixels:
    """Values stretched or drawn together about the image's mean."""
    del number
    values = levels(pixels)
    mean = values.mean()
    return of_levels(mean + (values - mean) * grade, pixels.dtype)


def _packed(pixels: Pixels, grade: float, number: int) -> Pixels:
    """Written as JPEG, at 8 bits, and read again; channels that are no colours each by itself."""
    del number
    whole = eight_bits(pixels)
    if pixels.shape[2] == 3:
        return of_levels(levels(_unpacked(whole, grade)), pixels.dtype)
    planes = [_unpacked(whole[:, :, k], grade) for k in range(pixels.shape[2])]
    return of_levels(levels(np.stack(planes, axis=2)), pixels.dtype)


def _unpacked(pixels: NDArray[np.uint8], grade: float) -> NDArray[np.uint8]:
    stream = BytesIO()
    Image.fromarray(np.ascontiguousarray(pixels)).save(stream, "JPEG", quality=int(grade))
    stream.seek(0)
    with Image.open(stream) as read:
        return np.asarray(read)


DEGRADATIONS: dict[str, Degradation] = {
    "blur": Degradation("blur, deviation", "% of the side", (0.5, 1.0, 2.0, 3.0, 5.0), _blurred),
    "noise": Degradation("noise, deviation", "% of white", (2, 4, 8, 16, 32), _noisy),
    "darker": Degradation("darker, values times", "", (0.85, 0.7, 0.55, 0.4, 0.25), lambda p, g, _: brightened(p, g)),
    "brighter": Degradation(
        "brighter, values times", "", (1.15, 1.3, 1.5, 1.75, 2.0), lambda p, g, _: brightened(p, g)
    ),
    "contrast": Degradation("less contrast, times", "", (0.8, 0.6, 0.4, 0.25, 0.1), _contrasted),
    "rotation": Degradation("rotation", "°", (5, 10, 20, 45, 90), lambda p, g, _: rotated(p, g)),
    "shift": Degradation(
        "shift down and right", "% of the side", (2, 5, 10, 15, 25), lambda p, g, _: translated(p, g / 100, g / 100)
    ),
    "JPEG": Degradation("JPEG of quality", "", (80, 50, 25, 10, 5), _packed),
}
"""By name."""
