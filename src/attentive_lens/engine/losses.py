"""What training makes small."""

from __future__ import annotations

import numpy as np
from numpy.typing import DTypeLike

from attentive_lens.engine.arrays import Array, Labels


def softmax(scores: Array) -> Array:
    """Probabilities, N×K, each row summing to 1, from raw scores; shifted by the greatest, so nothing overflows."""
    powers = np.exp(scores - scores.max(axis=1, keepdims=True))
    return np.asarray(powers / powers.sum(axis=1, keepdims=True))


def one_hot(labels: Labels, classes: int, dtype: DTypeLike = np.float32) -> Array:
    """Targets, N×K, that are 1 at each image's class and 0 elsewhere."""
    targets = np.zeros((len(labels), classes), dtype)
    targets[np.arange(len(labels)), labels] = 1
    return targets


def cross_entropy(scores: Array, targets: Array) -> tuple[Array, Array]:
    """Softmax cross-entropy from raw scores.

    Parameters
    ----------
    scores : ndarray, N×K
        Raw scores (logits).
    targets : ndarray, N×K
        Wanted probabilities, each row summing to 1; `one_hot` where an image has one label.

    Returns
    -------
    losses : ndarray, N
        −Σ target · log probability, in nats, 0 or above.
    grad : ndarray, N×K
        Gradient of each image's own loss: probabilities less targets (Bishop 2006, eq. 4.109).
    """
    shifted = scores - scores.max(axis=1, keepdims=True)
    powers = np.exp(shifted)
    sums = powers.sum(axis=1, keepdims=True)
    losses = (targets * (np.log(sums) - shifted)).sum(axis=1)
    return losses, np.asarray(powers / sums - targets)
