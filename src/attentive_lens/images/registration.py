"""Whether two pictures show the same: laid over each other, and what then remains between them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft2, rfft2
from scipy.ndimage import gaussian_filter, uniform_filter

SHIFT = 3
"""Pixels by which pictures may be shifted against each other."""
EDGE = 3
"""Pixels at the edge that are not compared, besides those that a shift brings in."""
BLUR = 1.5
"""Standard deviation, pixels, of the blur before what remains is measured: noise and packing are no difference."""
LEAST = 0.7
"""Correlation of fine detail below which two pictures are not the same, and are not laid over each other."""
WINDOW = 7
"""Side of the window in which the worst of what remains is looked for."""
BLANK = 0.006
"""Contrast, of white, below which a picture shows nothing that could be recognised."""
FAINT = 0.008
"""Strength of edges, of white, below which detail counts as noise."""


def fine_picture(grey: NDArray[np.float32]) -> NDArray[np.float32]:
    """Edges of one to two pixels of a picture S×S in 0–1, each against those about it: mean 0, mean square 1."""
    band = gaussian_filter(grey, 1) - gaussian_filter(grey, 2.5)
    even = band / np.sqrt(gaussian_filter(band * band, 3) + FAINT**2)
    even -= even.mean()
    return np.asarray(even / max(float(np.sqrt((even * even).mean())), 1e-6), np.float32)


@dataclass(frozen=True)
class Registered:
    """A picture prepared for being laid over others.

    Attributes
    ----------
    waves : ndarray, S×(S/2+1) complex64
        Fourier transform of its fine detail, of mean square 1.
    soft : ndarray, S×S float32
        The picture, blurred.
    slopes : ndarray, 2×S×S float32
        Of the blurred picture, down and across.
    """

    waves: NDArray[np.complex64]
    soft: NDArray[np.float32]
    slopes: NDArray[np.float32]

    @classmethod
    def of(cls, grey: NDArray[np.float32]) -> Registered:
        """Of a picture S×S in 0–1."""
        even = fine_picture(grey)
        soft = np.asarray(gaussian_filter(grey, BLUR), np.float32)
        return cls(np.asarray(rfft2(even), np.complex64), soft, np.asarray(np.gradient(soft), np.float32))

    @property
    def contrast(self) -> float:
        """Standard deviation of the blurred picture, of white."""
        return float(self.soft.std())


@dataclass(frozen=True)
class Fit:
    """How one picture lies over another.

    Attributes
    ----------
    correlation : float
        Of their fine detail at the best shift, −1 to 1.
    gain : float
        By how much the first is to be made brighter.
    residual : float
        Part of the second's variance, 0–1, that remains once the first is shifted, parts of a pixel too, and its
        brightness and contrast are matched.
    worst : float
        The same in the window where most remains: a small thing that only one of them shows.
    """

    correlation: float
    gain: float
    residual: float
    worst: float

    @property
    def same(self) -> bool:
        """Whether they are copies of one picture; ``benchmarks/real/faults.py`` says how often that is wrong."""
        return self.correlation > LEAST and self.residual < 0.03 and self.worst < 0.15 and 0.7 < self.gain < 1.43


def fitted(one: Registered, other: Registered, least: float = -1.0, shift: int = SHIFT) -> Fit:
    """Lay one picture over another of the same size, if their fine detail correlates by so much at least.

    The best whole shift is that of the fine detail; the rest is least squares in the blurred pictures: gain, offset,
    and the part of a pixel as a step along the slopes. Of pictures too small for that, only equal ones fit.
    """
    side = one.soft.shape[0]
    correlation, down, across = best_shift(one.waves, other.waves, side, shift)
    if correlation < least:
        return Fit(correlation, 1.0, 1.0, 1.0)
    border = shift + EDGE
    if side <= 4 * border:
        differ = 0.0 if np.array_equal(one.soft, other.soft) else 1.0
        return Fit(correlation, 1.0, differ, differ)
    inner = slice(border, side - border)
    moved = (slice(border + down, side - border + down), slice(border + across, side - border + across))
    target = other.soft[inner, inner].ravel()
    terms = np.stack([one.soft[moved].ravel(), *(slope[moved].ravel() for slope in one.slopes)])
    terms, target = terms - terms.mean(axis=1, keepdims=True), target - target.mean()
    products = terms @ terms.T
    products[np.diag_indices(3)] += 1e-9 * np.trace(products) + 1e-12
    weights = np.linalg.solve(products, terms @ target)
    rest = np.square(target - weights @ terms).reshape(side - 2 * border, -1)
    variance = max(float(np.square(target).mean()), 1e-12)
    worst = float(uniform_filter(rest, WINDOW).max())
    return Fit(correlation, float(weights[0]), float(rest.mean()) / variance, worst / variance)


def best_shift(
    one: NDArray[np.complex64], other: NDArray[np.complex64], side: int, shift: int = SHIFT
) -> tuple[float, int, int]:
    """Correlation of two pictures' fine detail at the best of all shifts up to so many pixels, and that shift.

    A pixel of the second lies over that of the first so many rows and columns further.
    """
    correlations = irfft2(one * other.conj(), (side, side)) / side**2
    near = [*range(shift + 1), *range(-shift, 0)] if side > 4 * shift else [0]
    few = correlations[np.ix_(near, near)]
    row, column = (int(n) for n in np.unravel_index(int(few.argmax()), few.shape))
    return float(few[row, column]), near[row], near[column]
