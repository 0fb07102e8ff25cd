"""What training makes small."""

from __future__ import annotations

import numpy as np

from attentive_lens.engine.arrays import Array, Labels


def softmax(scores: Array) -> Array:
    """Probabilities, N×K, each row summing to 1, from raw scores; shifted by the greatest, so nothing overflows."""
    powers = np.exp(scores - scores.max(axis=1, keepdims=True))
    return np.asarray(powers / powers.sum(axis=1, keepdims=True))


def cross_entropy(scores: Array, labels: Labels) -> tuple[Array, Array]:
    """Softmax cross-entropy from raw scores.

    Parameters
    ----------
    scores : ndarray, N×K
        Raw scores (logits).
    labels : ndarray, N int64
        True classes.

    Returns
    -------
    losses : ndarray, N
        −log of the true class's probability, in nats, 0 or above.
    grad : ndarray, N×K
        Gradient of each image's own loss: probabilities, less 1 at the true class (Bishop 2006, eq. 4.109).
    """
    rows = np.arange(len(labels))
    shifted = scores - scores.max(axis=1, keepdims=True)
    powers = np.exp(shifted)
    sums = powers.sum(axis=1, keepdims=True)
    losses = np.log(sums[:, 0]) - shifted[rows, labels]
    grad = np.asarray(powers / sums)
    grad[rows, labels] -= 1
    return losses, grad
