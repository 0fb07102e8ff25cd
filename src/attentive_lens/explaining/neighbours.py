"""Which images a layer finds alike, and a picture of all of them in two dimensions."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import breathe
from attentive_lens.core.random import random_generator
from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.distances import principal, row_blocks, squared_distances

PERPLEXITY, STEPS = 30.0, 400
HALVINGS = 50
MOST = 5000
"""Images that t-SNE takes, at most: its work grows with their square."""


def nearest(features: Array, query: Array, count: int) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Rows of features N×D nearest to a query D, and their distances, the nearest first (Euclidean)."""
    gaps = np.empty(len(features))
    for rows in row_blocks(*features.shape):
        gaps[rows] = np.sqrt(((features[rows] - query) ** 2).sum(axis=1, dtype=np.float64))
    order = np.argsort(gaps, kind="stable")[:count]
    return order, gaps[order]


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
    likelihoods = _likelihoods(np.asarray(features, np.float32), min(PERPLEXITY, (count - 1) / 3))
    places = (
        start / (start[:, 0].std() + 1e-12) * 1e-4 + random_generator(seed, "t-SNE").normal(0, 1e-6, start.shape)
    ).astype(np.float32)
    moved, gains = np.zeros_like(places), np.ones_like(places)
    for step in range(STEPS):
        grad = _gradient(places, likelihoods, 12 if step < 100 else 1)
        same = (grad > 0) == (moved > 0)
        gains = np.where(same, np.maximum(gains * 0.8, 0.01), gains + 0.2)
        moved = (0.5 if step < 100 else 0.8) * moved - max(count / 12, 50) * gains * grad
        places = places + moved
        places -= places.mean(axis=0)
    return np.asarray(places, np.float64)


def _gradient(places: NDArray[np.float32], likelihoods: NDArray[np.float32], stress: float) -> NDArray[np.float32]:
    """Of the divergence by the places N×2, the wanted likelihoods N×N being stressed so many times."""
    near_sum = 0.0
    pull, push = np.empty_like(places), np.empty_like(places)
    with_one = np.hstack([places, np.ones((len(places), 1), np.float32)])
    for rows in row_blocks(len(places), len(places)):
        near = 1 / (1 + squared_distances(places[rows], places))
        near[np.arange(len(near)), np.arange(rows.start, rows.stop)] = 0
        near_sum += float(near.sum(dtype=np.float64))
        for sums, weights in ((pull, likelihoods[rows] * near), (push, near * near)):
            products = weights @ with_one
            sums[rows] = products[:, 2:] * places[rows] - products[:, :2]
    return 4 * (np.float32(stress) * pull - push / np.float32(near_sum))


def _likelihoods(features: NDArray[np.float32], perplexity: float) -> NDArray[np.float32]:
    """Symmetric neighbour likelihoods, summing to 1; each width found by halving."""
    count = len(features)
    shares = np.empty((count, count), np.float32)
    for rows in row_blocks(count, count):
        gaps = squared_distances(features[rows], features).astype(np.float64)
        diagonal = (np.arange(len(gaps)), np.arange(rows.start, rows.stop))
        gaps[diagonal] = np.inf
        gaps -= gaps.min(axis=1, keepdims=True)
        low, high = np.zeros(len(gaps)), np.full(len(gaps), np.inf)
        sharp = 1 / np.maximum(np.median(np.where(np.isfinite(gaps), gaps, 0), axis=1), 1e-12)
        for _ in range(HALVINGS):
            breathe()
            near = np.exp(-gaps * sharp[:, None])
            shares[rows] = part = near / near.sum(axis=1, keepdims=True)
            entropy = -(part * np.log(np.maximum(part, 1e-300))).sum(axis=1)
            wide = entropy > np.log(perplexity)
            low, high = np.where(wide, sharp, low), np.where(wide, high, sharp)
            sharp = np.where(np.isinf(high), sharp * 2, (low + high) / 2)
    both = np.empty_like(shares)
    for rows in row_blocks(count, count):
        both[rows] = (shares[rows] + shares[:, rows].T) / (2 * count)
    return both
