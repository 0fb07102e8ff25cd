"""Rules that turn gradients into steps.

To add one: a subclass of `Optimiser` with its arrays and its step, and a line in `OPTIMISERS`; its settings and a line
in ``plan/optimisers``.
"""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Mapping
from typing import Any, ClassVar, Generic, TypeVar

import numpy as np

from attentive_lens.core.extensions import Parts, is_kind, raising
from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.plan.nodes import USUALLY, Learning
from attentive_lens.plan.optimisers import AdaGrad, Adam, OptimiserSettings, RmsProp, Sgd

S = TypeVar("S", bound=OptimiserSettings)


class Optimiser(ABC, Generic[S]):
    """Base of the optimisers: changes weights in place and remembers what it needs per array.

    All factors are Python floats, so that an array keeps its dtype through every operation.

    Parameters
    ----------
    settings : OptimiserSettings
        Learning rate, weight decay, and the rule's own.
    learnings : mapping, optional
        Node → how its weights learn beside the settings; as usual where nothing is said.
    filter_axes : mapping, optional
        Node → axis of its kernels along which filters stand; the last where nothing is said.

    Attributes
    ----------
    steps : int
        Steps taken.
    age : int
        Steps taken of the node that is being changed, this one among them.
    memory : dict
        (node, array) → the rule's own arrays by name, each of the weight's shape and dtype.
    """

    remembers: ClassVar[tuple[str, ...]] = ()

    def __init__(
        self,
        settings: S,
        learnings: Mapping[str, Learning] | None = None,
        filter_axes: Mapping[str, int] | None = None,
    ) -> None:
        self.settings = settings
        self.learnings, self.filter_axes = dict(learnings or {}), dict(filter_axes or {})
        self.steps = self.age = 0
        self.memory: dict[tuple[str, str], dict[str, Array]] = {}

    def step(
        self, weights: Weights, gradients: Weights, factor: float = 1.0, since: Mapping[str, int] | None = None
    ) -> None:
        """Change every array that has a gradient; the others are not touched.

        Weight decay pulls kernels and matrices, never biases, scales and shifts: added to the gradient (L2), or
        apart from the rule, w ← w − rate · decay · w (Loshchilov & Hutter 2019, algorithm 2). After the step, filters
        of a layer with a max norm that are longer are shortened to it (Srivastava 2014, section 5.1).

        Parameters
        ----------
        weights, gradients : dict
            Node → array name → array; gradients are used up.
        factor : float
            Of the learning rate at this step, by the schedule.
        since : mapping, optional
            Node → steps that were taken before it began to learn; 0 for those that are not there.
        """
        self.steps += 1
        for node, arrays in gradients.items():
            self.age = self.steps - (since or {}).get(node, 0)
            learning = self.learnings.get(node, USUALLY)
            decay = self.settings.weight_decay * learning.decay_multiplier
            rate = float(self.settings.learning_rate * factor * learning.lr_multiplier)
            for name, grad in arrays.items():
                weight = weights[node][name]
                memory = self.memory.get((node, name))
                if memory is None:
                    memory = self.memory[node, name] = {key: np.zeros_like(weight) for key in self.remembers}
                if decay and weight.ndim > 1:
                    if self.settings.decoupled:
                        weight *= float(1 - rate * decay)
                    else:
                        grad += float(decay) * weight
                self.change(weight, grad, memory, rate)
                if learning.max_norm and weight.ndim > 1:
                    constrain(weight, learning.max_norm, self.filter_axes.get(node, -1))

    @abstractmethod
    def change(self, weight: Array, grad: Array, memory: dict[str, Array], rate: float) -> None:
        """Change one array in place; ``grad`` may be used up."""


class SgdOptimiser(Optimiser[Sgd]):
    """Stochastic gradient descent: w ← w − rate·g (Robbins & Monro 1951).

    With momentum v ← μ·v + g and w ← w − rate·v (Sutskever 2013, eq. 1–2); Nesterov's looks ahead,
    w ← w − rate·(g + μ·v) (eq. 3–4, rearranged).
    """

    remembers = ("velocity",)

    def change(self, weight: Array, grad: Array, memory: dict[str, Array], rate: float) -> None:
        """See the class."""
        momentum = self.settings.momentum
        if not momentum:
            weight -= np.multiply(grad, rate, out=grad)
            return
        velocity = memory["velocity"]
        velocity *= momentum
        velocity += grad
        if self.settings.nesterov:
            grad += momentum * velocity
            weight -= np.multiply(grad, rate, out=grad)
        else:
            weight -= np.multiply(velocity, rate, out=grad)


class AdaGradOptimiser(Optimiser[AdaGrad]):
    """Steps divided by the root of all squares so far: s ← s + g², w ← w − rate·g / (√s + ε) (Duchi 2011)."""

    remembers = ("squares",)

    def change(self, weight: Array, grad: Array, memory: dict[str, Array], rate: float) -> None:
        """See the class."""
        squares = memory["squares"]
        squares += grad * grad
        grad /= np.sqrt(squares) + self.settings.epsilon
        weight -= np.multiply(grad, rate, out=grad)


class RmsPropOptimiser(Optimiser[RmsProp]):
    """Steps divided by the root of a running mean of squares (Tieleman & Hinton 2012, lecture 6e)."""

    remembers = ("square",)

    def change(self, weight: Array, grad: Array, memory: dict[str, Array], rate: float) -> None:
        """See the class."""
        square, memory_factor = memory["square"], self.settings.decay_rate
        square *= memory_factor
        square += (1 - memory_factor) * (grad * grad)
        grad /= np.sqrt(square) + self.settings.epsilon
        weight -= np.multiply(grad, rate, out=grad)


class AdamOptimiser(Optimiser[Adam]):
    """Steps scaled by running moments of the gradient (Kingma & Ba 2015, algorithm 1, defaults of section 2)."""

    remembers = ("mean", "square")

    def change(self, weight: Array, grad: Array, memory: dict[str, Array], rate: float) -> None:
        """See the class; the bias corrections are folded into the rate, as in the paper's section 2."""
        beta1, beta2 = self.settings.beta1, self.settings.beta2
        mean, square = memory["mean"], memory["square"]
        mean *= beta1
        mean += (1 - beta1) * grad
        square *= beta2
        square += (1 - beta2) * np.multiply(grad, grad, out=grad)
        correction = math.sqrt(1 - beta2**self.age)
        root = np.sqrt(square, out=grad)
        root += self.settings.epsilon * correction
        weight -= (rate * correction / (1 - beta1**self.age)) * mean / root


# Any: each has the settings of its own kind
OPTIMISERS: Parts[type[Optimiser[Any]]] = Parts(
    {
        "adam": AdamOptimiser,
        "sgd": SgdOptimiser,
        "adagrad": AdaGradOptimiser,
        "rmsprop": RmsPropOptimiser,
    },
    "engine.optimisers",
    raising,
    lambda thing: thing if is_kind(thing, Optimiser) else None,
)


def constrain(weight: Array, max_norm: float, axis: int = -1) -> None:
    """Shorten, in place, every filter or unit along ``axis`` whose norm is above ``max_norm`` to it."""
    others = tuple(k for k in range(weight.ndim) if k != axis % weight.ndim)
    norms = np.sqrt((weight * weight).sum(axis=others, keepdims=True))
    weight *= (max_norm / np.maximum(norms, max_norm)).astype(weight.dtype)


def norm(gradients: Weights) -> float:
    """Euclidean norm of all gradients together; not finite if one of them is not."""
    return math.sqrt(sum(float(np.vdot(g, g)) for arrays in gradients.values() for g in arrays.values()))


def clip(gradients: Weights, length: float, clip_norm: float) -> None:
    """Shorten gradients of norm ``length`` to ``clip_norm`` in place, in their direction (Pascanu 2013, section 3)."""
    if length > clip_norm:
        for arrays in gradients.values():
            for grad in arrays.values():
                grad *= float(clip_norm / length)
