"""A picture of many images in two dimensions, in which images that a layer finds alike lie near each other."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress, breathe
from attentive_lens.core.random import random_generator
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.explaining.distances import principal, row_blocks, squared_distances

PERPLEXITY = 30.0
STEPS, STRESSED = 750, 200
"""Steps in all, and those at the beginning in which likelihoods are stressed."""
STRESS = 12.0
MOMENTUM = (0.5, 0.8)
"""While stressed, and afterwards."""
HALVINGS = 50
TOLD = 25
"""Steps between two words of how far it is."""
PIECE = 256
"""Images in a piece of work."""


@dataclass(frozen=True, eq=False)
class Likelihoods:
    """Of being neighbours, symmetric and summing to 1, a sparse row an image: ``shares[starts[i]:starts[i + 1]]``."""

    starts: NDArray[np.int32]
    others: NDArray[np.int32]
    shares: NDArray[np.float32]


def embedded(
    features: Array, seed: int = 0, perplexity: float = PERPLEXITY, thread_pool: ThreadPool | None = None
) -> Job[NDArray[np.float64]]:
    """Places N×2 by t-SNE (van der Maaten & Hinton 2008), each so far with what the job says of its progress.

    Likelihoods are those of the nearest 3·perplexity images (van der Maaten 2014); the push between all pairs is
    exact, so the work grows with N². It starts from the principal components and steps down with momentum and a gain
    for each coordinate, at a rate of N/12 (Belkina et al. 2019). The same input and seed give the same places on one
    machine, with any number of threads.

    Parameters
    ----------
    features : ndarray, N×D
        A row an image.
    seed : int
        Of the small noise in the start.
    perplexity : float
        How many neighbours each image has, about; less than a third of N, or that.
    thread_pool : ThreadPool, optional
        Who works; the caller alone if left out.
    """
    count = len(features)
    start, _ = principal(features)
    if count < 4:
        return start
    likelihoods = likelihoods_of(np.asarray(features, np.float32), min(perplexity, (count - 1) / 3))
    noise = random_generator(seed, "t-SNE").normal(0, 1e-6, start.shape)
    places = (start / (start[:, 0].std() + 1e-12) * 1e-4 + noise).astype(np.float32)
    moved, gains = np.zeros_like(places), np.ones_like(places)
    rate = np.float32(max(count / STRESS, 50))
    for step in range(STEPS):
        if step % TOLD == 0:
            yield Progress(step, STEPS, "laying images out", places.astype(np.float64) if step else None)
        breathe()
        stressed = step < STRESSED
        grad = gradient(places, likelihoods, STRESS if stressed else 1.0, thread_pool)
        same = (grad > 0) == (moved > 0)
        gains = np.where(same, np.maximum(gains * 0.8, 0.01), gains + 0.2).astype(np.float32)
        moved = np.float32(MOMENTUM[not stressed]) * moved - rate * gains * grad
        places = places + moved
        places -= places.mean(axis=0)
    return np.asarray(places, np.float64)


def gradient(
    places: NDArray[np.float32], likelihoods: Likelihoods, stress: float = 1.0, thread_pool: ThreadPool | None = None
) -> NDArray[np.float32]:
    """Of the divergence by the places N×2, the likelihoods being stressed so many times."""
    from attentive_lens.explaining.embedding_loops import pull, push  # only here: it takes a second to load

    across, down = (np.ascontiguousarray(places[:, k]) for k in (0, 1))
    pulled, pushed = np.empty_like(places), np.empty_like(places)
    of = likelihoods

    def piece(number: int) -> float:
        first, last = number * PIECE, min(len(places), (number + 1) * PIECE)
        pull(across, down, of.starts, of.others, of.shares, first, last, pulled)
        return float(push(across, down, first, last, pushed))

    pieces = -(-len(places) // PIECE)
    sums = thread_pool.each(piece, pieces) if thread_pool is not None else [piece(k) for k in range(pieces)]
    return 4 * (np.float32(stress) * pulled - pushed / np.float32(sum(sums)))


def likelihoods_of(features: NDArray[np.float32], perplexity: float) -> Likelihoods:
    """Of the nearest 3·perplexity images of each, the width of each neighbourhood found by halving."""
    from scipy.sparse import csr_array  # only here: it takes half a second to import

    count = len(features)
    near = min(count - 1, max(3, round(3 * perplexity)))
    around = features - features.mean(axis=0)
    others, gaps = np.empty((count, near), np.int32), np.empty((count, near), np.float64)
    for rows in row_blocks(count, count):
        distances = squared_distances(around[rows], around)
        distances[np.arange(len(distances)), np.arange(rows.start, rows.stop)] = np.inf
        others[rows] = np.argpartition(distances, near - 1, axis=1)[:, :near]
        gaps[rows] = np.take_along_axis(distances, others[rows], axis=1)
    gaps -= gaps.min(axis=1, keepdims=True)
    low, high = np.zeros(count), np.full(count, np.inf)
    sharp = 1 / np.maximum(np.median(gaps, axis=1), 1e-12)
    wanted = np.log(min(perplexity, near))
    part = gaps
    for _ in range(HALVINGS):
        breathe()
        weights = np.exp(-gaps * sharp[:, None])
        part = weights / weights.sum(axis=1, keepdims=True)
        entropy = -(part * np.log(np.maximum(part, 1e-300))).sum(axis=1)
        wide = entropy > wanted
        low, high = np.where(wide, sharp, low), np.where(wide, high, sharp)
        sharp = np.where(np.isinf(high), sharp * 2, (low + high) / 2)
    starts = np.arange(0, count * near + 1, near)
    one_way = csr_array((part.ravel(), others.ravel(), starts), shape=(count, count))
    both = ((one_way + one_way.T) / (2 * count)).tocsr()
    both.sort_indices()
    return Likelihoods(both.indptr.astype(np.int32), both.indices.astype(np.int32), both.data.astype(np.float32))
