"""Output functions: what makes answers of a network's raw scores. Which one belongs to the loss, and is in the model.

A network may give fewer raw scores than there are classes; `OutputFunction.spread` gives every class its score first.
To add one: a class and a line in `OUTPUTS`, and its name at the losses it belongs to.
"""

from __future__ import annotations

import math
from abc import ABC, abstractmethod

import numpy as np

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.special import expit

EDGE = 1e-6
"""Nearest that a threshold comes to 0 and 1, where no score would reach it."""


def softmax(scores: Array) -> Array:
    """Probabilities, N×K, each row summing to 1, from raw scores; shifted by the greatest, so nothing overflows."""
    powers = np.exp(scores - scores.max(axis=1, keepdims=True))
    return np.asarray(powers / powers.sum(axis=1, keepdims=True))


class OutputFunction(ABC):
    """Base of the output functions.

    Attributes
    ----------
    is_probability : bool
        Whether the answers are probabilities, 0–1; if not, they are raw scores.
    """

    is_probability = True

    def outputs(self, classes: int) -> int:
        """Raw scores that a network gives for so many classes."""
        return classes

    def spread(self, raw: Array) -> Array:
        """The classes' scores N×K from raw scores; linear, and the same by default."""
        return raw

    def gather(self, gradient: Array) -> Array:
        """The gradient by raw scores from that by the classes' scores N×K: `spread`, transposed."""
        return gradient

    @abstractmethod
    def answers(self, scores: Array) -> Array:
        """Answers N×K from the classes' scores N×K."""

    @abstractmethod
    def gradient(self, scores: Array, weights: Array) -> Array:
        """Gradient by the classes' scores N×K of Σ over classes of weight · answer, weights N×K."""


class Softmax(OutputFunction):
    """eˢ over the sum of all (Bishop 2006, eq. 4.62): one class is right."""

    def answers(self, scores: Array) -> Array:
        """Rows sum to 1."""
        return softmax(scores)

    def gradient(self, scores: Array, weights: Array) -> Array:
        """P · (w − Σ w·p)."""
        shares = softmax(scores)
        return np.asarray(shares * (weights - (weights * shares).sum(axis=1, keepdims=True)))


class Sigmoid(OutputFunction):
    """1 / (1 + e⁻ˢ) of every class by itself: rows need not sum to 1."""

    def answers(self, scores: Array) -> Array:
        """0–1 each."""
        return np.asarray(expit(scores))

    def gradient(self, scores: Array, weights: Array) -> Array:
        """W · p · (1 − p)."""
        shares = expit(scores)
        return np.asarray(weights * shares * (1 - shares))


class OneSigmoid(Softmax):
    """One raw score s for two classes: σ(s) is the second's probability and 1 − σ(s) the first's.

    The classes' scores are −s/2 and s/2, whose softmax is just that, so that both can be explained.
    """

    def outputs(self, classes: int) -> int:
        """One."""
        return 1

    def spread(self, raw: Array) -> Array:
        """N×2 from N×1."""
        half = raw * np.asarray(0.5, raw.dtype)
        return np.concatenate([-half, half], axis=1)

    def gather(self, gradient: Array) -> Array:
        """N×1 from N×2."""
        return (gradient[:, 1:] - gradient[:, :1]) * np.asarray(0.5, gradient.dtype)


class OneLabel(Softmax):
    """One of several labels as two classes: images without it, and those with it.

    Of its raw score s, said above the probability t, the classes' scores are −z/2 and z/2 with z = s − log(t/(1 − t)),
    so that the greater one is what is said. The answers are 1 − σ(s) and σ(s), whatever the threshold.

    Parameters
    ----------
    place : int
        Of the label among all.
    labels : int
        All of them.
    threshold : float
        0–1; a label of threshold 1 is hardly ever said.
    """

    def __init__(self, place: int, labels: int, threshold: float) -> None:
        self.place, self.labels = place, labels
        t = min(max(threshold, EDGE), 1 - EDGE)
        self.shift = math.log(t / (1 - t))

    def outputs(self, classes: int) -> int:
        """As many as there are labels."""
        del classes
        return self.labels

    def spread(self, raw: Array) -> Array:
        """N×2 from N×K."""
        half = (raw[:, self.place : self.place + 1] - np.asarray(self.shift, raw.dtype)) * np.asarray(0.5, raw.dtype)
        return np.concatenate([-half, half], axis=1)

    def gather(self, gradient: Array) -> Array:
        """N×K from N×2: nothing for the other labels."""
        result = np.zeros((len(gradient), self.labels), gradient.dtype)
        result[:, self.place] = (gradient[:, 1] - gradient[:, 0]) * np.asarray(0.5, gradient.dtype)
        return result

    def _unshifted(self, scores: Array) -> Array:
        half = np.asarray(self.shift / 2, scores.dtype)
        return np.concatenate([scores[:, :1] - half, scores[:, 1:] + half], axis=1)

    def answers(self, scores: Array) -> Array:
        """The probabilities as they are, without the threshold."""
        return softmax(self._unshifted(scores))

    def gradient(self, scores: Array, weights: Array) -> Array:
        """As of softmax, of the scores without the threshold."""
        return super().gradient(self._unshifted(scores), weights)


class NoOutput(OutputFunction):
    """Raw scores as they are, where the loss is a distance: they are no probabilities."""

    is_probability = False

    def answers(self, scores: Array) -> Array:
        """As given."""
        return scores

    def gradient(self, scores: Array, weights: Array) -> Array:
        """The weights."""
        del scores
        return weights


OUTPUTS: dict[str, OutputFunction] = {
    "softmax": Softmax(),
    "sigmoid": Sigmoid(),
    "one sigmoid": OneSigmoid(),
    "none": NoOutput(),
}
