"""A classifier on fixed features: what can be told of images where no network was trained.

Ridge regression of the classes by random waves, which stand for a Gaussian kernel (Rahimi & Recht 2007, algorithm 1).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import breathe
from attentive_lens.core.random import random_generator

WAVES, RIDGE = 800, 0.1
"""Random waves, and the weight of the penalty, for each image."""
AT_ONCE = 512
"""Images between two breaths: some hundredths of a second of products."""


@dataclass(frozen=True)
class Scaling:
    """Means and deviations of features, V each."""

    mean: NDArray[np.float32]
    deviation: NDArray[np.float32]

    @classmethod
    def of(cls, features: NDArray[np.float32]) -> Scaling:
        """Of those that are learned from, N×V."""
        return cls(features.mean(axis=0), features.std(axis=0) + np.float32(1e-3))

    def apply(self, features: NDArray[np.float32]) -> NDArray[np.float32]:
        """About 0, in deviations."""
        return np.asarray((features - self.mean) / self.deviation, np.float32)


def waves(scaled: NDArray[np.float32]) -> NDArray[np.float32]:
    """N×800 of scaled features N×V: products are a Gaussian of the mean squared distance over the features."""
    rng = random_generator(0, "waves of the plain classifier")
    width = scaled.shape[1]
    directions = (rng.standard_normal((width, WAVES)) * np.sqrt(2 / width)).astype(np.float32)
    phases = rng.uniform(0, 2 * np.pi, WAVES).astype(np.float32)
    result = np.empty((len(scaled), WAVES), np.float32)
    for part in _parts(len(scaled)):
        result[part] = np.cos(scaled[part] @ directions + phases)
    return result


def _parts(count: int) -> Iterator[slice]:
    """Of so many images, with a breath before each."""
    for first in range(0, count, AT_ONCE):
        breathe()
        yield slice(first, first + AT_ONCE)


@dataclass(frozen=True)
class PlainClassifier:
    """What was learned of waves: their means, the classes' shares, and weights 800×K."""

    mean: NDArray[np.float32]
    shares: NDArray[np.float64]
    weights: NDArray[np.float64]

    @classmethod
    def fit(cls, of: NDArray[np.float32], labels: NDArray[np.int64], classes: int) -> PlainClassifier:
        """Of images' waves N×800 and their class numbers."""
        wanted = np.eye(classes)[labels]
        mean, shares = of.mean(axis=0), wanted.mean(axis=0)
        products, answers = RIDGE * len(of) * np.eye(WAVES), np.zeros((WAVES, classes))
        for part in _parts(len(of)):
            centred = of[part] - mean
            products += centred.T @ centred
            answers += centred.T @ (wanted[part] - shares)
        return cls(mean, shares, np.asarray(np.linalg.solve(products, answers), np.float64))

    def answers(self, of: NDArray[np.float32]) -> NDArray[np.float64]:
        """N×K: near 1 for the class of an image like those learned from, near 0 for others; no probabilities."""
        return np.asarray((of - self.mean) @ self.weights + self.shares)
