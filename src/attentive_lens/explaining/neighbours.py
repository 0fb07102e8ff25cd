"""Which images a layer finds alike."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.distances import row_blocks


def nearest(features: Array, query: Array, count: int) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Rows of features N×D nearest to a query D, and their distances, the nearest first (Euclidean)."""
    gaps = np.empty(len(features))
    for rows in row_blocks(*features.shape):
        gaps[rows] = np.sqrt(((features[rows] - query) ** 2).sum(axis=1, dtype=np.float64))
    order = np.argsort(gaps, kind="stable")[:count]
    return order, gaps[order]
