"""What stands in the place of pixels that are covered or deleted: one filling for every question targets that way."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import paced
from attentive_lens.engine.arrays import Array
from attentive_lens.images.pixel_format import PixelArray

Place = tuple[slice, slice] | NDArray[np.bool_]
"""Rows and columns, or a mask H×W."""


def filling(image: Array | PixelArray) -> NDArray[np.float64]:
    """The image's own mean over its pixels, C: what covered pixels take, of prepared images and of pixels alike.

    It depends on nothing but the image, so that a place covered by hand, by a map method and by the augmentation step
    for places is covered alike; and unlike black or the training mean it is never a new contrast in a dark or bright
    image.
    """
    return np.asarray(image.mean(axis=(0, 1), dtype=np.float64))


def covered(image: Array, places: Sequence[Place]) -> Array:
    """Copies N×H×W×C of a prepared image, each with one place covered."""
    copies = np.repeat(image[None], len(places), axis=0)
    mean = filling(image).astype(image.dtype)
    for copy, place in paced(zip(copies, places, strict=True), 64):
        copy[place] = mean
    return copies
