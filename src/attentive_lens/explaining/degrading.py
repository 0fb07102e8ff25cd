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

Pixels = NDArray[np.uint8]


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
        Gives an image H×W×C uint8 at a grade; the number is the image's own, for what is drawn by lot.
    """

    what: str
    unit: str
    grades: tuple[float, ...]
    apply: Callable[[Pixels, float, int], Pixels]


def _bytes(values: NDArray[np.float64]) -> Pixels:
    return (values + 0.5).clip(0, 255).astype(np.uint8)


def _blurred(pixels: Pixels, grade: float, number: int) -> Pixels:
    del number
    sigma = grade / 100 * pixels.shape[0]
    return _bytes(gaussian_filter(pixels.astype(np.float64), (sigma, sigma, 0), mode="nearest"))


def _noisy(pixels: Pixels, grade: float, number: int) -> Pixels:
    return _bytes(pixels + random_generator(number, "noise").normal(0, grade * 2.55, pixels.shape))


def _contrasted(pixels: Pixels, grade: float, number: int) -> Pixels:
    """Values stretched or drawn together about the image's mean."""
    del number
    mean = pixels.mean()
    return _bytes(mean + (pixels - mean) * grade)


def _packed(pixels: Pixels, grade: float, number: int) -> Pixels:
    """Written as JPEG and read again."""
    del number
    grey, stream = pixels.shape[2] == 1, BytesIO()
    Image.fromarray(pixels[:, :, 0] if grey else pixels).save(stream, "JPEG", quality=int(grade))
    stream.seek(0)
    read = np.asarray(Image.open(stream))
    return read[:, :, None] if grey else read


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
