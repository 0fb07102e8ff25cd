"""What training makes small. Every loss starts from raw scores and wanted probabilities, N×K each."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import DTypeLike
from scipy.special import expit

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


def sigmoid_cross_entropy(scores: Array, targets: Array) -> tuple[Array, Array]:
    """Cross-entropy of every class by itself, summed over the classes; as `cross_entropy` otherwise.

    max(s, 0) − s·t + log(1 + e^−|s|), which never overflows; the gradient is σ(s) − t.
    """
    losses = np.maximum(scores, 0) - scores * targets + np.log1p(np.exp(-np.abs(scores)))
    return losses.sum(axis=1), np.asarray(expit(scores) - targets)


def squared_error(scores: Array, targets: Array) -> tuple[Array, Array]:
    """Half the squared distance of raw scores and targets, summed over the classes; the gradient is s − t."""
    gap = scores - targets
    return 0.5 * (gap * gap).sum(axis=1), gap


def absolute_error(scores: Array, targets: Array) -> tuple[Array, Array]:
    """Distance of raw scores and targets, summed over the classes; the gradient is the sign, 0 where they meet."""
    gap = scores - targets
    return np.abs(gap).sum(axis=1), np.sign(gap)


LOSSES: dict[str, Callable[[Array, Array], tuple[Array, Array]]] = {
    "softmax cross-entropy": cross_entropy,
    "sigmoid cross-entropy": sigmoid_cross_entropy,
    "squared error": squared_error,
    "absolute error": absolute_error,
}


@dataclass(frozen=True)
class Loss:
    """A loss with what is done to the targets first.

    Attributes
    ----------
    kind : str
        One of `LOSSES`.
    smoothing : float
        Part of every target shared out evenly over all classes, 0 to 1 (Szegedy 2016, section 7).
    weights : ndarray, K, or None
        Factor of each image's loss, by the classes it is wanted to be.
    """

    kind: str = "softmax cross-entropy"
    smoothing: float = 0.0
    weights: Array | None = None

    @property
    def is_plain(self) -> bool:
        """Whether nothing is done to the targets."""
        return not self.smoothing and self.weights is None

    def plain(self, scores: Array, targets: Array) -> Array:
        """Losses N without smoothing and class weights: what figures about different images are compared by."""
        return LOSSES[self.kind](scores, targets.astype(scores.dtype, copy=False))[0]

    def __call__(self, scores: Array, targets: Array) -> tuple[Array, Array]:
        """Losses N and their gradients N×K."""
        targets = targets.astype(scores.dtype, copy=False)
        wanted = targets
        if self.smoothing:
            wanted = (1 - self.smoothing) * targets + self.smoothing / targets.shape[1]
            wanted = wanted.astype(scores.dtype, copy=False)
        losses, grad = LOSSES[self.kind](scores, wanted)
        if self.weights is None:
            return losses, grad
        factors = (targets @ self.weights).astype(scores.dtype)
        return losses * factors, grad * factors[:, None]


def balanced(counts: Labels) -> Array:
    """Class weights inverse to the numbers of images, N / (K · count), so that their mean over the images is 1."""
    present = np.maximum(np.asarray(counts, np.float64), 1)
    weights = present.sum() / (len(present) * present)
    return weights.astype(np.float32)
