"""How alike what two networks make of the same images is, layer by layer, whatever the order of their channels."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array

FEWEST = 4
"""Images, at least."""


def similarity(one: Array, other: Array) -> float:
    """Linear centred kernel alignment of two representations of the same images.

    Kornblith 2019, «Similarity of neural network representations revisited», eq. 4, with the unbiased estimate of the
    dependence (Song 2012, «Feature selection via dependence maximization», eq. 5), which does not grow with the number
    of features.

    Parameters
    ----------
    one : ndarray, N×D
        What one network gives for N images, at least 4.
    other : ndarray, N×E
        The other.

    Returns
    -------
    float
        1 where one is the other but for a rotation, a shift and a scale; about 0, and sometimes below, where they have
        nothing in common. Not a number where one of them is the same for all images.
    """
    if len(one) != len(other) or len(one) < FEWEST:
        raise ValueError(f"representations of {len(one)} and {len(other)} images")
    first, second = _kernel(one), _kernel(other)
    size = _dependence(first, first) * _dependence(second, second)
    return _dependence(first, second) / math.sqrt(size) if size > 0 else math.nan


def _kernel(rows: Array) -> NDArray[np.float64]:
    """Products of all pairs, nothing on the diagonal; in units in which they are about 1."""
    centred = rows.astype(np.float64) - rows.mean(axis=0, dtype=np.float64)
    products = centred @ centred.T
    products /= max(float(np.trace(products)) / len(products), 1e-300)
    np.fill_diagonal(products, 0)
    return products


def _dependence(one: NDArray[np.float64], other: NDArray[np.float64]) -> float:
    """Unbiased estimate of the Hilbert-Schmidt independence criterion."""
    count = len(one)
    whole = float(one.sum()) * float(other.sum()) / ((count - 1) * (count - 2))
    crossed = 2 / (count - 2) * float(one.sum(axis=0) @ other.sum(axis=1))
    return (float((one * other).sum()) + whole - crossed) / (count * (count - 3))


def filter_changes(before: Array, after: Array, axis: int) -> NDArray[np.float64]:
    """By how much every filter or unit along an axis changed: norm of the difference over the norm it had.

    Parameters
    ----------
    before, after : ndarray
        A layer's kernel or matrix.
    axis : int
        Of the filters.
    """
    others = tuple(k for k in range(before.ndim) if k != axis % before.ndim)
    apart = np.sqrt(((after.astype(np.float64) - before) ** 2).sum(axis=others))
    had = np.sqrt((before.astype(np.float64) ** 2).sum(axis=others))
    return np.asarray(apart / np.maximum(had, 1e-12), np.float64)
