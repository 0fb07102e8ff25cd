"""Rules that turn gradients into steps.

To add one: a subclass of `Optimiser` with its arrays and its step, and one line in `OPTIMISERS`.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from typing import ClassVar

import numpy as np

from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.plan.settings import Training


class Optimiser(ABC):
    """Base of the optimisers: changes weights in place and remembers what it needs per array.

    Parameters
    ----------
    settings : Training
        Rate, momentum and weight decay.
    paces : mapping, optional
        Node → factor of its rate; 1 where nothing is said.

    Attributes
    ----------
    steps : int
        Steps taken.
    memory : dict
        (node, array) → the rule's own arrays by name, each of the weight's shape and dtype.
    """

    remembers: ClassVar[tuple[str, ...]] = ()

    def __init__(self, settings: Training, paces: Mapping[str, float] | None = None) -> None:
        self.settings = settings
        self.paces = dict(paces or {})
        self.steps = 0
        self.memory: dict[tuple[str, str], dict[str, Array]] = {}

    def step(self, weights: Weights, gradients: Weights, rate: float | None = None) -> None:
        """Change every array that has a gradient; the others are not touched.

        Weight decay pulls kernels and matrices, never biases, scales and shifts: added to the gradient (L2), or
        apart from the rule, w ← w − rate · decay · w (Loshchilov & Hutter 2019, algorithm 2).

        Parameters
        ----------
        weights, gradients : dict
            Node → array name → array; gradients are used up.
        rate : float, optional
            Of this step; the settings' if left out.
        """
        self.steps += 1
        decay = self.settings.decay
        for node, arrays in gradients.items():
            own = (self.settings.rate if rate is None else rate) * self.paces.get(node, 1.0)
            for name, grad in arrays.items():
                weight = weights[node][name]
                memory = self.memory.get((node, name))
                if memory is None:
                    memory = self.memory[node, name] = {key: np.zeros_like(weight) for key in self.remembers}
                if decay and weight.ndim > 1:
                    if self.settings.decays == "apart":
                        weight *= np.asarray(1 - own * decay, weight.dtype)
                    else:
                        grad += np.asarray(decay, weight.dtype) * weight
                self.change(weight, grad, memory, own)

    @abstractmethod
    def change(self, weight: Array, grad: Array, memory: dict[str, Array], rate: float) -> None:
        """Change one array in place; ``grad`` may be used up."""


class Descent(Optimiser):
    """Stochastic gradient descent: w ← w − rate·g (Robbins & Monro 1951)."""

    def change(self, weight: Array, grad: Array, memory: dict[str, Array], rate: float) -> None:
        """See the class."""
        weight -= np.multiply(grad, rate, out=grad)


class Momentum(Optimiser):
    """Stochastic gradient descent with momentum: v ← μ·v + g, w ← w − rate·v (Sutskever 2013, eq. 1–2)."""

    remembers = ("velocity",)

    def change(self, weight: Array, grad: Array, memory: dict[str, Array], rate: float) -> None:
        """See the class."""
        velocity = memory["velocity"]
        velocity *= self.settings.momentum
        velocity += grad
        weight -= np.multiply(velocity, rate, out=grad)


class Nesterov(Optimiser):
    """Momentum that looks ahead: v ← μ·v + g, w ← w − rate·(g + μ·v) (Sutskever 2013, eq. 3–4, rearranged)."""

    remembers = ("velocity",)

    def change(self, weight: Array, grad: Array, memory: dict[str, Array], rate: float) -> None:
        """See the class."""
        velocity = memory["velocity"]
        velocity *= self.settings.momentum
        velocity += grad
        grad += self.settings.momentum * velocity
        weight -= np.multiply(grad, rate, out=grad)


class AdaGrad(Optimiser):
    """Steps divided by the root of all squares so far: s ← s + g², w ← w − rate·g / (√s + tiny) (Duchi 2011)."""

    remembers = ("squares",)
    tiny = 1e-10

    def change(self, weight: Array, grad: Array, memory: dict[str, Array], rate: float) -> None:
        """See the class."""
        squares = memory["squares"]
        squares += grad * grad
        grad /= np.sqrt(squares) + self.tiny
        weight -= np.multiply(grad, rate, out=grad)


class RmsProp(Optimiser):
    """Steps divided by the root of a running mean of squares, of memory 0.9 (Tieleman & Hinton 2012, lecture 6e)."""

    remembers = ("square",)
    keeps, tiny = 0.9, 1e-8

    def change(self, weight: Array, grad: Array, memory: dict[str, Array], rate: float) -> None:
        """See the class."""
        square = memory["square"]
        square *= self.keeps
        square += (1 - self.keeps) * (grad * grad)
        grad /= np.sqrt(square) + self.tiny
        weight -= np.multiply(grad, rate, out=grad)


class Adam(Optimiser):
    """Steps scaled by running moments of the gradient (Kingma & Ba 2015, algorithm 1, defaults of section 2)."""

    remembers = ("mean", "square")
    first, second, tiny = 0.9, 0.999, 1e-8

    def change(self, weight: Array, grad: Array, memory: dict[str, Array], rate: float) -> None:
        """See the class; the bias corrections are folded into the rate, as in the paper's section 2."""
        mean, square = memory["mean"], memory["square"]
        mean *= self.first
        mean += (1 - self.first) * grad
        square *= self.second
        square += (1 - self.second) * np.multiply(grad, grad, out=grad)
        correction = np.sqrt(1 - self.second**self.steps)
        length = np.sqrt(square, out=grad)
        length += self.tiny * correction
        weight -= float(rate * correction / (1 - self.first**self.steps)) * mean / length


OPTIMISERS: dict[str, type[Optimiser]] = {
    "adam": Adam,
    "sgd": Descent,
    "momentum": Momentum,
    "nesterov": Nesterov,
    "adagrad": AdaGrad,
    "rmsprop": RmsProp,
}


def length(gradients: Weights) -> float:
    """Euclidean length of all gradients together; not finite if one of them is not."""
    return float(np.sqrt(sum(float(np.vdot(g, g)) for arrays in gradients.values() for g in arrays.values())))


def clip(gradients: Weights, found: float, most: float) -> None:
    """Shorten gradients of length ``found`` to ``most`` in place, keeping their direction (Pascanu 2013, section 3)."""
    if found > most:
        for arrays in gradients.values():
            for grad in arrays.values():
                grad *= np.asarray(most / found, grad.dtype)
