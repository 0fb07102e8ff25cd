"""What is black and white in a set whose values have more than 8 bits, found from some of its images."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.pixel_format import EIGHT, FLOATING, SIXTEEN, THIRTY_TWO, WHITES, white_of
from attentive_lens.images.reading import EXTREMES, FULL, PERCENTILES, Reading

VALUES = 4096
"""Taken of each image."""
RARE = 0.1
"""Percent of the values that lie beyond the scale at either end where it goes by percentiles."""
WHOLE = 1e-3
"""Distance from a whole number up to which a fraction times 255 counts as a level of 8 bits."""


@dataclass(frozen=True)
class Sampled:
    """Values of some images of a set, image by image.

    Attributes
    ----------
    values : ndarray
        Of all of them, in the type they are stored in.
    lows, highs : tuple of float
        Each image's least and greatest value.
    """

    values: NDArray[Any]
    lows: tuple[float, ...]
    highs: tuple[float, ...]

    @classmethod
    def of(cls, images: Iterable[NDArray[Any]]) -> Sampled:
        """From some images, one after another; what is no number is left out."""
        parts, lows, highs = [], [], []
        for image in images:
            flat = image.reshape(-1)
            flat = flat[np.isfinite(flat)] if flat.dtype.kind == "f" else flat
            if flat.size:
                low, high = flat.min(), flat.max()
                parts.append(np.append(flat[:: max(1, flat.size // VALUES)], [low, high]).astype(flat.dtype))
                lows.append(float(low))
                highs.append(float(high))
        return cls(np.concatenate(parts) if parts else np.zeros(0), tuple(lows), tuple(highs))

    @property
    def is_whole(self) -> bool:
        """Whether all are whole numbers."""
        return self.values.dtype.kind in "bui" or bool(np.all(self.values % 1 == 0))

    @property
    def usual_ends(self) -> tuple[float, float]:
        """Least and greatest value, but for one image that exceeds all others: its values are at fault."""
        odd = 1 if len(self.highs) > 2 else 0
        return sorted(self.lows)[odd], sorted(self.highs)[-1 - odd]

    @property
    def has_eight_bits(self) -> bool:
        """Whether an ordinary picture holds all of them: levels 0 to 255, or as many fractions up to 1."""
        values = self.values
        if not values.size or values.dtype in (np.dtype(np.bool_), np.dtype(np.uint8)):
            return True
        low, high = self.usual_ends
        if self.is_whole:
            return low >= 0 and high <= 255
        levels = values.astype(np.float64) * 255
        return low >= 0 and high <= 1 and bool(np.all(np.abs(levels - np.rint(levels)) < WHOLE))

    @property
    def depth(self) -> str:
        """One of `pixel_format.DEPTHS`, by the values themselves."""
        if self.has_eight_bits:
            return EIGHT
        if not self.is_whole:
            return FLOATING
        low, high = self.usual_ends
        return SIXTEEN if low >= -(1 << 15) and high < 1 << 16 else THIRTY_TWO

    def depth_for(self, reading: Reading) -> str:
        """The same; of images that happen to hold less than the scale that a reading says, more than 8 bits."""
        if not (self.has_eight_bits and reading.beyond_eight_bits):
            return self.depth
        return SIXTEEN if self.is_whole else FLOATING

    def ends(self, scale: str) -> tuple[float, float]:
        """Black and white by one of `reading.SCALES`; white is above black."""
        values = self.values
        if not values.size:
            return 0.0, 1.0
        low, high = float(values.min()), float(values.max())
        if scale == FULL and values.dtype.kind in "ui":
            limits = np.iinfo(values.dtype)
            low, high = float(limits.min), float(limits.max)
        elif scale == FULL:
            low, high = 0.0, 1.0
        elif scale == PERCENTILES:
            low, high = (float(end) for end in np.percentile(values, (RARE, 100 - RARE)))
        elif scale != EXTREMES:
            low, high = self._usual()
        return low, max(high, low + (1.0 if self.is_whole else 1e-6 * max(1.0, abs(low))))

    def _usual(self) -> tuple[float, float]:
        """As many bits as are needed, or fractions up to 1; else from the least value to the greatest."""
        low, high = self.usual_ends
        if low < 0 or high > WHITES[-1]:
            return low, high
        if not self.is_whole:
            return (0.0, 1.0) if high <= 1 else (low, high)
        return 0.0, float(white_of(high) or high)
