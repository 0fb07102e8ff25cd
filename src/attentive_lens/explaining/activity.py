"""How active a layer is over many images: a histogram of its values, means by class, and which channels are used."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array

BINS = 60
BEYOND = 0.5
"""Percent of the first piece's values that may lie below the histogram's first edge, and above its last."""


class Activity:
    """Collects a layer's outputs, images coming in pieces.

    Parameters
    ----------
    classes : int
        Number of classes K.

    Attributes
    ----------
    edges : ndarray, B+1 float64
        Of the bins, fixed by the first piece.
    counts : ndarray, B int64
        Values in each bin; the outermost hold what lies beyond.
    images : ndarray, K int64
        How many of each class came.
    """

    def __init__(self, classes: int) -> None:
        self.edges: NDArray[np.float64] = np.zeros(BINS + 1)
        self.counts: NDArray[np.int64] = np.zeros(BINS, np.int64)
        self.images: NDArray[np.int64] = np.zeros(classes, np.int64)
        self._sums: NDArray[np.float64] = np.zeros((classes, 0))
        self._used: NDArray[np.int64] = np.zeros(0, np.int64)

    def add(self, outs: Array, labels: NDArray[np.int64]) -> None:
        """Outputs N×H×W×C or N×C of the next N images, and their classes."""
        rows = outs.reshape(len(outs), -1, outs.shape[-1])
        if not self._used.size:
            self._begin(rows)
        inside = np.clip(rows, self.edges[0], self.edges[-1])
        self.counts += np.histogram(inside, self.edges)[0]
        self._used += (rows > 0).any(axis=1).sum(axis=0)
        np.add.at(self._sums, labels, rows.mean(axis=1, dtype=np.float64))
        np.add.at(self.images, labels, 1)

    def _begin(self, rows: Array) -> None:
        low, high = np.percentile(rows, (BEYOND, 100 - BEYOND))
        if low >= 0:  # what ReLU gives: zeros have the first bin
            low = 0.0
        if not high > low:
            high = max(float(rows.max()), low + 1.0)
        self.edges = np.linspace(low, high, BINS + 1)
        self._sums = np.zeros((len(self.images), rows.shape[2]))
        self._used = np.zeros(rows.shape[2], np.int64)

    @property
    def mean(self) -> NDArray[np.float32]:
        """Mean value by class and channel, K×C; not a number for a class that did not come."""
        with np.errstate(invalid="ignore"):
            return np.asarray(self._sums / self.images[:, None], np.float32)

    @property
    def used(self) -> NDArray[np.float32]:
        """Part of the images in which each channel is above zero anywhere, C."""
        return np.asarray(self._used / max(1, int(self.images.sum())), np.float32)
