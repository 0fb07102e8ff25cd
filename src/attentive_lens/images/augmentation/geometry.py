"""Where pixels are: every step as a matrix, or as a pull on every place."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Geometric, Tonal
from attentive_lens.images.augmentation.compiled import displace
from attentive_lens.plan.augmentation import (
    Crop,
    ElasticDeformation,
    Flip,
    Perspective,
    Rotate,
    Rotate90,
    Scale,
    Shear,
    Translate,
)


class FlipChange(Geometric):
    """Left to right, top to bottom, or one of the two."""

    def matrix(self, step: Flip, random: np.random.Generator, sides: tuple[int, int]) -> NDArray[np.float64]:
        """A sign changed on one axis."""
        across = step.direction == "left-right" or (step.direction == "either" and random.random() < 0.5)
        return np.diag([-1.0, 1.0, 1.0] if across else [1.0, -1.0, 1.0])


class RotateChange(Geometric):
    """Counter-clockwise for a positive angle."""

    def matrix(self, step: Rotate, random: np.random.Generator, sides: tuple[int, int]) -> NDArray[np.float64]:
        """A rotation."""
        angle = math.radians(random.uniform(*step.range))
        c, s = math.cos(angle), math.sin(angle)
        return np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])


class Rotate90Change(Geometric):
    """One, two or three quarters, each as likely; two where rows and columns would have to change places."""

    def matrix(self, step: Rotate90, random: np.random.Generator, sides: tuple[int, int]) -> NDArray[np.float64]:
        """A rotation without resampling: entries are 0 and ±1."""
        quarters = int(random.integers(3))
        c, s = ((0.0, 1.0), (-1.0, 0.0), (0.0, -1.0))[quarters if sides[0] == sides[1] else 1]
        return np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])


class TranslateChange(Geometric):
    """Each axis drawn by itself."""

    def matrix(self, step: Translate, random: np.random.Generator, sides: tuple[int, int]) -> NDArray[np.float64]:
        """A translation, in pixels."""
        across, down = random.uniform(*step.range), random.uniform(*step.range)
        return np.array([[1, 0, -across * sides[1]], [0, 1, -down * sides[0]], [0, 0, 1]])


class ScaleChange(Geometric):
    """Larger for a factor above 1."""

    def matrix(self, step: Scale, random: np.random.Generator, sides: tuple[int, int]) -> NDArray[np.float64]:
        """The inverse factor on both axes."""
        factor = random.uniform(*step.range)
        return np.diag([1 / factor, 1 / factor, 1.0])


class ShearChange(Geometric):
    """Rows move sideways, the farther from the middle the more."""

    def matrix(self, step: Shear, random: np.random.Generator, sides: tuple[int, int]) -> NDArray[np.float64]:
        """A shear."""
        return np.array([[1, math.tan(math.radians(random.uniform(*step.range))), 0], [0, 1, 0], [0, 0, 1]])


class PerspectiveChange(Geometric):
    """Each axis drawn by itself."""

    def matrix(self, step: Perspective, random: np.random.Generator, sides: tuple[int, int]) -> NDArray[np.float64]:
        """A projective map: the divisor grows linearly from the middle to an edge."""
        across, down = random.uniform(*step.range), random.uniform(*step.range)
        return np.array([[1, 0, 0], [0, 1, 0], [across / (sides[1] / 2), down / (sides[0] / 2), 1]])


class CropChange(Geometric):
    """Its area and aspect are drawn, then its place, all of it inside the image."""

    def matrix(self, step: Crop, random: np.random.Generator, sides: tuple[int, int]) -> NDArray[np.float64]:
        """A scaling of each axis and a shift."""
        area, aspect = random.uniform(*step.range), random.uniform(*step.aspect)
        wide, tall = min(1.0, math.sqrt(area * aspect)), min(1.0, math.sqrt(area / aspect))
        across = random.uniform(-0.5, 0.5) * (1 - wide) * sides[1]
        down = random.uniform(-0.5, 0.5) * (1 - tall) * sides[0]
        return np.array([[wide, 0, across], [0, tall, down], [0, 0, 1]])


GRID = 5


"""Places on a side where a pull is drawn."""


class ElasticDeformationChange(Tonal):
    """Pulls drawn on a coarse grid of 5×5 and smoothed between (after Simard 2003, section 2)."""

    def apply(self, step: ElasticDeformation, random: np.random.Generator, image: NDArray[np.float32]) -> None:
        """In place; the border repeats."""
        strength = random.uniform(*step.range)
        pulls = random.standard_normal((2, GRID, GRID)) * strength
        rows, columns = image.shape[:2]
        from scipy.ndimage import zoom  # only here: training begins sooner without

        zoomed = [zoom(pull, (rows / GRID, columns / GRID), order=1, grid_mode=True, mode="nearest") for pull in pulls]
        out = np.empty_like(image)
        displace(image, zoomed[0].astype(np.float32), zoomed[1].astype(np.float32), out)
        image[...] = out
