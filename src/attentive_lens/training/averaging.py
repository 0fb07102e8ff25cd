"""Weights averaged over steps or epochs: what is judged and kept in place of the last step's."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from typing import Any, ClassVar, Generic, TypeVar

import numpy as np

from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.plan.averaging import (
    AveragingSettings,
    ExponentialMovingAverage,
    NoAveraging,
    StochasticWeightAveraging,
)

S = TypeVar("S", bound=AveragingSettings)
AVERAGE = "average"
"""What a checkpoint calls the mean of an array, beside what the optimiser keeps of it."""


class Averaging(ABC, Generic[S]):
    """Base of the ways to average.

    Attributes
    ----------
    weights : dict or None
        The mean, in arrays that stay the same ones; None where the weights themselves stand for it.
    count : int
        Weights it was taken of.
    estimates_statistics : bool
        Whether running statistics of normalisations must be taken anew for the mean.
    """

    estimates_statistics: ClassVar[bool] = False

    def __init__(self, settings: S) -> None:
        self.settings = settings
        self.weights: Weights | None = None
        self.count = 0

    @abstractmethod
    def after_step(self, weights: Weights) -> None:
        """A step was taken."""

    @abstractmethod
    def after_epoch(self, weights: Weights, fraction: float) -> None:
        """An epoch is over, and so much of the run."""

    def memory(self) -> dict[str, Array]:
        """All of it for a checkpoint; `restore` takes it."""
        parts = {
            f"{node}/{name}/{AVERAGE}": array
            for node, arrays in (self.weights or {}).items()
            for name, array in arrays.items()
        }
        return {"/averaged": np.array([self.count], np.float64), **parts}

    def restore(self, memory: Mapping[str, Array]) -> None:
        """As `memory` gave it; checkpoints from before there was averaging hold none."""
        self.count = int(memory.get("/averaged", np.zeros(1))[0])
        for key, array in memory.items():
            node, _, rest = key.partition("/")
            name, _, what = rest.partition("/")
            if what == AVERAGE:
                self.weights = self.weights or {}
                self.weights.setdefault(node, {})[name] = array.copy()

    def _move(self, weights: Weights, part: float) -> None:
        """Move the mean by a part of the way to some weights; the first are taken as they are."""
        if self.weights is None:
            self.weights = {node: {name: a.copy() for name, a in arrays.items()} for node, arrays in weights.items()}
            return
        for node, arrays in self.weights.items():
            for name, mean in arrays.items():
                mean += (weights[node][name] - mean) * mean.dtype.type(part)


class Plain(Averaging[NoAveraging]):
    """No mean at all."""

    def after_step(self, weights: Weights) -> None:
        """Nothing."""

    def after_epoch(self, weights: Weights, fraction: float) -> None:
        """Nothing."""


class MovingAverage(Averaging[ExponentialMovingAverage]):
    """m ← m + (w − m)·(1 − decay) / (1 − decay^t): the mean with its start taken out (Kingma & Ba 2015, section 3).

    Running statistics of normalisations are averaged like weights.
    """

    def after_step(self, weights: Weights) -> None:
        """Moves the mean."""
        self.count += 1
        decay = self.settings.decay
        self._move(weights, (1 - decay) / (1 - decay**self.count))

    def after_epoch(self, weights: Weights, fraction: float) -> None:
        """Nothing."""


class EpochAverage(Averaging[StochasticWeightAveraging]):
    """The plain mean of the weights at the ends of epochs (Izmailov 2018, algorithm 1).

    Their running statistics fit no mean of weights; who uses it takes them anew.
    """

    estimates_statistics = True

    def after_step(self, weights: Weights) -> None:
        """Nothing."""

    def after_epoch(self, weights: Weights, fraction: float) -> None:
        """Takes the weights in, once the mean has begun."""
        if fraction > self.settings.start or fraction >= 1:
            self.count += 1
            self._move(weights, 1 / self.count)


# Any: each takes the settings of its own kind
AVERAGING: dict[str, type[Averaging[Any]]] = {
    NoAveraging.kind: Plain,
    ExponentialMovingAverage.kind: MovingAverage,
    StochasticWeightAveraging.kind: EpochAverage,
}
