"""Which images a layer finds alike, and pictures of all of them in two dimensions."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import breathe
from attentive_lens.core.random import random_generator
from attentive_lens.engine.arrays import Array

PERPLEXITY, STEPS = 30.0, 400
MOST = 5000
"""Images that t-SNE takes, at most: its work grows with their square."""


def nearest(features: Array, query: Array, count: int) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Rows of features N×D nearest to a query D, and their distances, the nearest first (Euclidean)."""
    gaps = np.sqrt(((features - query) ** 2).sum(axis=1, dtype=np.float64))
    order = np.argsort(gaps, kind="stable")[:count]
    return order, gaps[order]


def principal(features: Array, dimensions: int = 2) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Principal components: places N×dimensions, and the part of the variance each explains (Pearson 1901).

    The sign of each is chosen so that its longest entry is positive.
    """
    around = np.asarray(features, np.float64) - features.mean(axis=0, dtype=np.float64)
    left, sizes, right = np.linalg.svd(around, full_matrices=False)
    longest = np.take_along_axis(right, np.abs(right).argmax(axis=1)[:, None], axis=1)[:, 0]
    places = left[:, :dimensions] * sizes[:dimensions] * np.sign(longest[:dimensions])
    total = max(float((sizes**2).sum()), 1e-300)
    return places, sizes[:dimensions] ** 2 / total


def embedded(features: Array, seed: int = 0) -> NDArray[np.float64]:
    """Places N×2 in which near images stay near: t-SNE, exactly (van der Maaten & Hinton 2008), N at most 5 000.

    Perplexity 30 (less for few images); starts from the principal components; 400 steps with momentum.
    """
    count = len(features)
    if count > MOST:
        raise ValueError(f"at most {MOST} images, got {count}")
    start, _ = principal(features)
    if count < 4:
        return start
    wanted = _likelihoods(np.asarray(features, np.float32), min(PERPLEXITY, (count - 1) / 3))
    places = (
        start / (start[:, 0].std() + 1e-12) * 1e-4 + random_generator(seed, "t-SNE").normal(0, 1e-6, start.shape)
    ).astype(np.float32)
    moved, gains = np.zeros_like(places), np.ones_like(places)
    for step in range(STEPS):
        breathe()
        squares = (places**2).sum(axis=1)
        near = 1 / (1 + np.maximum(squares[:, None] + squares[None, :] - 2 * places @ places.T, 0))
        np.fill_diagonal(near, 0)
        pull = (wanted * (12 if step < 100 else 1) - near / near.sum()) * near
        grad = 4 * (pull.sum(axis=1)[:, None] * places - pull @ places)
        same = (grad > 0) == (moved > 0)
        gains = np.where(same, np.maximum(gains * 0.8, 0.01), gains + 0.2)
        moved = (0.5 if step < 100 else 0.8) * moved - max(count / 12, 50) * gains * grad
        places = places + moved
        places -= places.mean(axis=0)
    return np.asarray(places, np.float64)


def _likelihoods(features: NDArray[np.float32], perplexity: float) -> NDArray[np.float32]:
    """Symmetric neighbour likelihoods, summing to 1; each width found by halving."""
    squares = (features**2).sum(axis=1)
    gaps = np.maximum(squares[:, None] + squares[None, :] - 2 * features @ features.T, 0).astype(np.float64)
    np.fill_diagonal(gaps, np.inf)
    gaps -= gaps.min(axis=1, keepdims=True)
    low, high = np.zeros(len(gaps)), np.full(len(gaps), np.inf)
    sharp = 1 / np.maximum(np.median(np.where(np.isfinite(gaps), gaps, 0), axis=1), 1e-12)
    for _ in range(50):
        breathe()
        near = np.exp(-gaps * sharp[:, None])
        shares = near / near.sum(axis=1, keepdims=True)
        entropy = -(shares * np.log(np.maximum(shares, 1e-300))).sum(axis=1)
        wide = entropy > np.log(perplexity)
        low, high = np.where(wide, sharp, low), np.where(wide, high, sharp)
        sharp = np.where(np.isinf(high), sharp * 2, (low + high) / 2)
    return np.asarray((shares + shares.T) / (2 * len(gaps)), np.float32)
