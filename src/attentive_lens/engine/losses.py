"""What training makes small. Every loss starts from raw scores and wanted probabilities, N×K each.

To add one: a function and a line in `LOSSES` here, its settings and a line in ``plan/losses``.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import DTypeLike

from attentive_lens.core.extensions import Parts, raising
from attentive_lens.engine.arrays import Array, Labels
from attentive_lens.engine.special import expit
from attentive_lens.plan.losses import LossSettings


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


def label_cross_entropy(scores: Array, targets: Array, weights: Array) -> tuple[Array, Array]:
    """`sigmoid_cross_entropy` with a weight for every image and label, N×K."""
    losses = np.maximum(scores, 0) - scores * targets + np.log1p(np.exp(-np.abs(scores)))
    return (weights * losses).sum(axis=1), np.asarray(weights * (expit(scores) - targets))


def squared_error(scores: Array, targets: Array) -> tuple[Array, Array]:
    """Half the squared distance of raw scores and targets, summed over the classes; the gradient is s − t."""
    gap = scores - targets
    return 0.5 * (gap * gap).sum(axis=1), gap


def absolute_error(scores: Array, targets: Array) -> tuple[Array, Array]:
    """Distance of raw scores and targets, summed over the classes; the gradient is the sign, 0 where they meet."""
    gap = scores - targets
    return np.abs(gap).sum(axis=1), np.sign(gap)


def binary_cross_entropy(scores: Array, targets: Array) -> tuple[Array, Array]:
    """Sigmoid cross-entropy of one score N×1, the probability of the second class wanted in N×2 targets."""
    return sigmoid_cross_entropy(scores, targets[:, 1:])


LOSSES: Parts[Callable[[Array, Array], tuple[Array, Array]]] = Parts(
    {
        "cross-entropy": cross_entropy,
        "sigmoid cross-entropy": sigmoid_cross_entropy,
        "binary cross-entropy": binary_cross_entropy,
        "squared error": squared_error,
        "absolute error": absolute_error,
    },
    "engine.losses",
    raising,
    lambda thing: thing if callable(thing) else None,
)


@dataclass(frozen=True)
class Loss:
    """A loss with what is done to the targets first.

    Attributes
    ----------
    kind : str
        One of `LOSSES`.
    label_smoothing : float
        Part of every target shared out evenly over all classes, 0 to 1 (Szegedy 2016, section 7).
    class_weights : ndarray, K, or None
        Factor of each image's loss, by the classes it is wanted to be; of several labels, of the part of the loss that
        each label has in images that have it.
    several : bool
        Whether targets are several labels, each 0 to 1, rows of any sum.
    """

    kind: str = "cross-entropy"
    label_smoothing: float = 0.0
    class_weights: Array | None = None
    several: bool = False

    @classmethod
    def of(cls, settings: LossSettings, counts: Labels | None = None, images: int | None = None) -> Loss:
        """As a plan asks for; ``counts`` are the training images of each class, for balanced class weights.

        Of several labels, an image having any, ``images`` are all of them.
        """
        weights = None
        if settings.class_weights == "balanced" and counts is not None:
            weights = balanced(counts) if images is None else balanced_labels(counts, images)
        smoothing = float(getattr(settings, "label_smoothing", 0.0))
        return cls(settings.kind, smoothing, weights, images is not None)

    @property
    def is_plain(self) -> bool:
        """Whether nothing is done to the targets."""
        return not self.label_smoothing and self.class_weights is None

    def plain(self, scores: Array, targets: Array) -> Array:
        """Losses N without smoothing and class weights: what figures about different images are compared by."""
        return LOSSES[self.kind](scores, targets.astype(scores.dtype, copy=False))[0]

    def right(self, scores: Array, targets: Array, answered: Array) -> int:
        """How many of N images are answered rightly, by raw scores and by the classes' scores N×K made of them.

        The class wanted most scores highest; of several labels, every one is above 0.5 that is wanted, and no other.
        """
        if self.several:
            return int(((scores > 0) == (targets > 0.5)).all(axis=1).sum())
        return int((answered.argmax(axis=1) == targets.argmax(axis=1)).sum())

    def __call__(self, scores: Array, targets: Array) -> tuple[Array, Array]:
        """Losses N and their gradients by the raw scores."""
        targets = targets.astype(scores.dtype, copy=False)
        smoothed = targets
        if self.label_smoothing:
            evenly = 0.5 if self.several else 1 / targets.shape[1]
            smoothed = (1 - self.label_smoothing) * targets + self.label_smoothing * evenly
            smoothed = smoothed.astype(scores.dtype, copy=False)
        losses, grad = LOSSES[self.kind](scores, smoothed)
        if self.class_weights is None:
            return losses, grad
        if self.several:
            return label_cross_entropy(scores, smoothed, 1 + targets * (self.class_weights.astype(scores.dtype) - 1))
        factors = (targets @ self.class_weights).astype(scores.dtype)
        return losses * factors, grad * factors[:, None]


def balanced_labels(counts: Labels, images: int) -> Array:
    """Weight of a label where it is there: images without it by images with it, so that both sides count the same."""
    present = np.maximum(np.asarray(counts, np.float64), 1)
    return np.maximum((images - present) / present, 1 / images).astype(np.float32)


def balanced(counts: Labels) -> Array:
    """Class weights inverse to the numbers of images, N / (K · count), so that their mean over the images is 1."""
    present = np.maximum(np.asarray(counts, np.float64), 1)
    weights = present.sum() / (len(present) * present)
    return weights.astype(np.float32)
