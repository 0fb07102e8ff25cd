"""Which images an epoch shows, and in which order."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.random import random_generator
from attentive_lens.plan.training import CLASS_BALANCED


def draws_of_epoch(labels: NDArray[np.int64], sampling: str, seed: int, epoch: int) -> NDArray[np.int64]:
    """As many draws as there are images: a function of its arguments.

    Parameters
    ----------
    labels : ndarray, M int64
        Classes of the training images.
    sampling : str
        Of `plan.training.SAMPLINGS`. Class-balanced, every class that has images is drawn equally often, but for one;
        its images come in rounds, each once in a round, and in an epoch no image comes twice before all of its class
        came once.

    Returns
    -------
    draws : ndarray, M int64
        Place of the image among the M, plus M times the rounds of its class that went before in this epoch.
    """
    count, rng = len(labels), random_generator(seed, "order", epoch)
    if sampling != CLASS_BALANCED:
        return rng.permutation(count)
    _, sizes = np.unique(labels, return_counts=True)
    own = np.split(np.argsort(labels, kind="stable"), np.cumsum(sizes)[:-1])
    shares = np.full(len(sizes), count // len(sizes))
    shares[rng.permutation(len(sizes))[: count % len(sizes)]] += 1
    draws = [
        np.concatenate([rng.permutation(places) + count * k for k in range(-(-share // len(places)))])[:share]
        for places, share in zip(own, shares.tolist(), strict=True)
    ]
    return rng.permutation(np.concatenate(draws))


def shown_of_classes(labels: NDArray[np.int64], classes: int, sampling: str) -> NDArray[np.int64]:
    """Images of each of so many classes that an epoch shows, but for one, K int64; class weights are made from them."""
    counts = np.bincount(labels, minlength=classes)
    if sampling != CLASS_BALANCED:
        return counts
    return np.where(counts > 0, max(1, len(labels) // max(1, int((counts > 0).sum()))), 0)
