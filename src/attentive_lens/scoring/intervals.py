"""How far a share of so many images can be trusted."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

Z = 1.96
"""Of a normal distribution, for 95 %."""


def interval(accuracy: float, images: float, z: float = Z) -> tuple[float, float]:
    """Of an accuracy, 0 to 1, on so many images, 95 % (Wilson 1927)."""
    middle = (accuracy + z**2 / (2 * images)) / (1 + z**2 / images)
    half = z / (1 + z**2 / images) * math.sqrt(accuracy * (1 - accuracy) / images + z**2 / (4 * images**2))
    return max(0.0, middle - half), min(1.0, middle + half)


def quantile_of_student(freedom: int) -> float:
    """The 97.5 % quantile of Student's distribution of so many degrees of freedom, to 0.01.

    Exact up to two, then by the normal one's (Abramowitz & Stegun 1964, 26.7.5, four terms).
    """
    if freedom <= 2:
        return 12.7062 if freedom == 1 else 4.3027 if freedom == 2 else math.inf
    x = 1.959964
    terms = (
        (x**3 + x) / 4,
        (5 * x**5 + 16 * x**3 + 3 * x) / 96,
        (3 * x**7 + 19 * x**5 + 17 * x**3 - 15 * x) / 384,
        (79 * x**9 + 776 * x**7 + 1482 * x**5 - 1920 * x**3 - 945 * x) / 92160,
    )
    return x + math.fsum(term / float(freedom) ** (k + 1) for k, term in enumerate(terms))


def interval_of_mean(values: NDArray[np.float64], groups: NDArray[np.int64]) -> tuple[float, float]:
    """Of the mean of N values where those of a group are alike, 95 %: Student's, of as many as there are groups.

    The variance is that of the groups' sums about the mean (Cochran 1977, section 11.8), which for groups of one is
    the usual one. Without a second group nothing can be told: the interval is all there is.
    """
    place = np.unique(groups, return_inverse=True)[1]
    count = int(place.max(initial=-1)) + 1
    if count < 2:
        return -math.inf, math.inf
    mean = float(values.mean())
    sums = np.bincount(place, values - mean)
    half = quantile_of_student(count - 1) * math.sqrt(float(np.square(sums).sum()) * count / (count - 1)) / len(values)
    return mean - half, mean + half


def interval_by_group(right: NDArray[np.bool_], groups: NDArray[np.int64]) -> tuple[float, float]:
    """Of an accuracy where images of a group are answered alike, 95 %: Wilson's for as many images as count.

    So many as alone would have the variance that the groups' sums of right answers show (the design effect, Kish 1965,
    section 8.2), no more than there are images; where all are right or wrong, as there are groups. Few groups tell
    their variance badly, hence Student's distribution.

    Parameters
    ----------
    right : ndarray, N bool
        Whether each image was answered rightly.
    groups : ndarray, N int64
        Its group; at least two are needed.
    """
    names, place = np.unique(groups, return_inverse=True)
    share, images, count = float(right.mean()), len(right), len(names)
    alone = images * share * (1 - share)
    sums = np.bincount(place, right - share)
    seen = float(np.square(sums).sum()) * count / (count - 1)
    worth = min(images, images * alone / seen) if alone and seen else count
    return interval(share, max(1.0, worth), quantile_of_student(count - 1))
