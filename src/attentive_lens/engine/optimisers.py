"""Rules that turn gradients into steps.

To add one: a subclass of `Optimiser` with its arrays and its step, and one line in `OPTIMISERS`.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import ClassVar

import numpy as np

from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.plan.settings import Training


class Optimiser(ABC):
    """Base of the optimisers: changes weights in place and remembers what it needs per array.

    Attributes
    ----------
    steps : int
        Steps taken.
    memory : dict
        (node, array) → the rule's own arrays by name, each of the weight's shape and dtype.
    """

    remembers: ClassVar[tuple[str, ...]] = ()

    def __init__(self, settings: Training) -> None:
        self.settings = settings
        self.steps = 0
        self.memory: dict[tuple[str, str], dict[str, Array]] = {}

    def step(self, weights: Weights, gradients: Weights) -> None:
        """Change every array that has a gradient; the others are not touched."""
        self.steps += 1
        for node, arrays in gradients.items():
            for name, grad in arrays.items():
                weight = weights[node][name]
                memory = self.memory.get((node, name))
                if memory is None:
                    memory = self.memory[node, name] = {key: np.zeros_like(weight) for key in self.remembers}
                self.change(weight, grad, memory)

    @abstractmethod
    def change(self, weight: Array, grad: Array, memory: dict[str, Array]) -> None:
        """Change one array in place; ``grad`` may be used up."""


class Momentum(Optimiser):
    """Stochastic gradient descent with momentum: v ← μ·v + g, w ← w − rate·v (Sutskever 2013, eq. 1–2)."""

    remembers = ("velocity",)

    def change(self, weight: Array, grad: Array, memory: dict[str, Array]) -> None:
        """See the class."""
        velocity = memory["velocity"]
        velocity *= self.settings.momentum
        velocity += grad
        weight -= np.multiply(velocity, self.settings.rate, out=grad)


class Adam(Optimiser):
    """Steps scaled by running moments of the gradient (Kingma & Ba 2015, algorithm 1, defaults of section 2)."""

    remembers = ("mean", "square")
    first, second, tiny = 0.9, 0.999, 1e-8

    def change(self, weight: Array, grad: Array, memory: dict[str, Array]) -> None:
        """See the class; the bias corrections are folded into the rate, as in the paper's section 2."""
        mean, square = memory["mean"], memory["square"]
        mean *= self.first
        mean += (1 - self.first) * grad
        square *= self.second
        square += (1 - self.second) * np.multiply(grad, grad, out=grad)
        correction = np.sqrt(1 - self.second**self.steps)
        rate = self.settings.rate * correction / (1 - self.first**self.steps)
        length = np.sqrt(square, out=grad)
        length += self.tiny * correction
        weight -= float(rate) * mean / length


OPTIMISERS: dict[str, type[Optimiser]] = {"adam": Adam, "momentum": Momentum}
