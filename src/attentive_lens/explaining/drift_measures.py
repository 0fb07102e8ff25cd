"""What is measured of an image to tell whether images of today are like those a model was judged on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.causes.measures import MEASURES
from attentive_lens.images.pixel_format import COLOURS, PixelArray, white_in

FEATURES = 8
"""Directions in which the network's channel statistics of held-out images differ most."""
OF_PICTURES = ("focus", "brightness", "contrast", "colour", "red to blue", "green to red and blue")
"""Those of `MEASURES` that a picture in colour is measured by."""
OF_ANY = ("focus", "brightness", "contrast")
"""The same for images of other channels, beside each channel's mean and deviation."""
PROBABILITY, UNLIKENESS = "probability", "unlikeness"
FEATURE = "feature "
_OTHERWISE = "look otherwise to the network"
_WORDS = {
    PROBABILITY: ("are answered less surely than usual", "are answered more surely than usual"),
    UNLIKENESS: ("are nearer to the training images than usual", "are farther from the training images than usual"),
}


@dataclass(frozen=True, eq=False)
class DriftMeasures:
    """What is measured, and how.

    Attributes
    ----------
    channels : tuple of str
        Of the images.
    mean : ndarray, D float64
        Of the held-out images' channel statistics, standardised.
    directions : ndarray, F×D float64
        Principal components of these, the largest variance first.
    """

    channels: tuple[str, ...]
    mean: NDArray[np.float64]
    directions: NDArray[np.float64]

    @classmethod
    def of(cls, channels: Sequence[str], statistics: Array) -> DriftMeasures:
        """For images of some channels, from held-out images' standardised channel statistics N×D."""
        values = statistics.astype(np.float64)
        mean = values.mean(axis=0)
        directions = np.linalg.svd(values - mean, full_matrices=False)[2][:FEATURES]
        return cls(tuple(channels), mean, directions)

    @property
    def _pictures(self) -> bool:
        return self.channels == COLOURS

    @property
    def names(self) -> tuple[str, ...]:
        """Of the measures, in order."""
        of_channels = [f"{what} of {name}" for name in self.channels for what in ("mean", "deviation")]
        of_pixels = list(OF_PICTURES) if self._pictures else [*OF_ANY, *of_channels]
        features = [f"{FEATURE}{k + 1}" for k in range(len(self.directions))]
        return (*of_pixels, PROBABILITY, UNLIKENESS, *features)

    def values(
        self, pixels: PixelArray, statistics: Array, probability: Array, unlikeness: NDArray[np.float64]
    ) -> NDArray[np.float64]:
        """Of N images.

        Parameters
        ----------
        pixels : ndarray, N×H×W×C
            At the input size.
        statistics : ndarray, N×D
            Channel statistics, standardised.
        probability : ndarray, N
            Of the class said.
        unlikeness : ndarray, N
            Distance from the training images, as part of what is usual.

        Returns
        -------
        ndarray, N×M float64
            M measures in the order of `names`.
        """
        sizes = np.zeros((len(pixels), 2), np.int64)
        words = OF_PICTURES if self._pictures else OF_ANY
        columns: list[NDArray[np.floating]] = [MEASURES[word].values(pixels, sizes) for word in words]
        if not self._pictures:
            for channel in range(pixels.shape[3]):
                own = pixels[..., channel].astype(np.float64) / white_in(pixels)
                columns += [own.mean(axis=(1, 2)), own.std(axis=(1, 2))]
        features = (statistics.astype(np.float64) - self.mean) @ self.directions.T
        columns += [probability, unlikeness, *features.T]
        return np.stack([np.asarray(column, np.float64) for column in columns], axis=1)


def words_of(measure: str) -> tuple[str, str]:
    """What images with low values of a measure do, and with high ones; empty where there are no words."""
    known = MEASURES.get(measure)
    if measure.startswith(FEATURE):
        return _OTHERWISE, _OTHERWISE
    if known is None:
        return _WORDS.get(measure, ("", ""))
    return known.low, known.high
