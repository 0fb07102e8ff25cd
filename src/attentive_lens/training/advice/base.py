"""What every piece of advice has: what it looks at, and what it says."""

from __future__ import annotations

import math
import statistics
from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.errors import LensError
from attentive_lens.plan.labels import labels_of, members_of
from attentive_lens.plan.plan import Plan
from attentive_lens.training.figures import Figures
from attentive_lens.training.journal import EpochEvent

FEWEST_EPOCHS = 6
"""Below, curves say little."""
STUCK = 0.97
"""Times the chance loss above which nothing was learned."""
LAST = 3
"""Epochs at the end that are looked at together."""


def _right(figures: Figures) -> float:
    """The part of the images answered rightly; what stands for it where no classes are answered."""
    return figures.main if figures.accuracy is None else figures.accuracy


@dataclass(frozen=True)
class Record:
    """What is known of a run.

    Attributes
    ----------
    plan : Plan
        What it executes.
    epochs : tuple of EpochEvent
        Finished.
    state, error : str
        How it stands, and why it failed.
    classes : tuple of str
        Names by class number, K.
    training, validation : tuple of int
        Images of each class, K.
    batches : int
        Of an epoch.
    rates_changed : bool
        Whether somebody set another learning rate while it trained.
    input_mean, input_std : float or None
        Of the prepared images' values.
    """

    plan: Plan
    epochs: tuple[EpochEvent, ...]
    state: str
    error: str = ""
    classes: tuple[str, ...] = ()
    training: tuple[int, ...] = ()
    validation: tuple[int, ...] = ()
    batches: int = 1
    rates_changed: bool = False
    input_mean: float | None = None
    input_std: float | None = None

    @property
    def is_over(self) -> bool:
        """Whether it is no longer trained."""
        return self.state != "training"

    @cached_property
    def judged(self) -> tuple[EpochEvent, ...]:
        """Epochs that were evaluated."""
        return tuple(epoch for epoch in self.epochs if epoch.validation is not None)

    @cached_property
    def training_loss(self) -> NDArray[np.float64]:
        """Of every epoch."""
        return np.array([epoch.training.loss for epoch in self.epochs])

    @cached_property
    def validation_loss(self) -> NDArray[np.float64]:
        """Of every evaluated epoch."""
        return np.array([epoch.validation.loss for epoch in self.judged if epoch.validation is not None])

    @cached_property
    def chance_loss(self) -> float | None:
        """Cross-entropy of who answers every image with the classes' shares; None for another loss function.

        Of several labels, with the part of the images that have each.
        """
        whole = sum(self.training)
        if self.plan.task.several:
            having = np.array(self.training) @ members_of(self.classes, labels_of(self.classes))
            parts = having[(having > 0) & (having < whole)] / max(1, whole)
            return float(-(parts * np.log(parts) + (1 - parts) * np.log1p(-parts)).sum()) or None
        if self.plan.loss.kind != "cross-entropy" or max(self.training, default=0) == whole:
            return None  # nobody needs to guess where there is one class
        return -sum(n / whole * math.log(n / whole) for n in self.training if n)

    @property
    def majority(self) -> float:
        """Part of the training images that are of the largest class."""
        return max(self.training, default=0) / max(1, sum(self.training))

    @property
    def right_word(self) -> str:
        """What the part of images answered rightly is called: accuracy, or exact match of several labels."""
        return self.plan.task.measures["accuracy"].label

    def last_training(self) -> tuple[float, float]:
        """Accuracy (of several labels, exact match) and loss of the training images over the last epochs."""
        last = self.epochs[-LAST:]
        return (
            float(np.mean([_right(epoch.training) for epoch in last])),
            float(np.mean([epoch.training.loss for epoch in last])),
        )

    def last_validation(self) -> float | None:
        """Validation accuracy (of several labels, exact match) over the last evaluated epochs."""
        last = [_right(epoch.validation) for epoch in self.judged[-LAST:] if epoch.validation is not None]
        return float(np.mean(last)) if last else None

    def layers(self, figure: str, epochs: Sequence[EpochEvent] | None = None) -> dict[str, float]:
        """A figure of `Health` by layer, the median over the last epochs; layers without it are left out."""
        names = [node.name for node in self.plan.network.nodes]
        looks = [epoch.health for epoch in (self.epochs[-LAST:] if epochs is None else epochs) if epoch.health]
        result: dict[str, list[float]] = {}
        for look in looks:
            for name, value in zip(names, getattr(look, figure), strict=False):
                if value is not None:
                    result.setdefault(name, []).append(value)
        return {name: statistics.median(values) for name, values in result.items()}

    @cached_property
    def updates(self) -> float | None:
        """Median over the layers of the size of a step over that of the weights, in the epoch in which it was largest.

        Schedules end with small steps, and layers that have died take none. None where nobody looked.
        """
        return max(self._updates, default=None)

    @cached_property
    def typical_updates(self) -> float:
        """As `updates`, of the median epoch; 0 where nobody looked."""
        return float(np.median(self._updates)) if self._updates else 0.0

    @cached_property
    def _updates(self) -> list[float]:
        """Of every epoch that was looked at."""
        looks = ([value for value in epoch.health.update if value is not None] for epoch in self.epochs if epoch.health)
        return [statistics.median(values) for values in looks if values]

    @property
    def is_stuck(self) -> bool:
        """Whether no epoch was clearly better than whoever guesses, on training and validation images."""
        chance = self.chance_loss
        if chance is None or not len(self.training_loss):
            return False
        return bool(min(self.training_loss.min(), *self.validation_loss, chance) > STUCK * chance)

    def hidden(self, figure: str) -> dict[str, float]:
        """As `layers`, without the output, whose gradients are of another size."""
        values = self.layers(figure)
        values.pop(self.plan.network.nodes[-1].name, None)
        return values


@dataclass(frozen=True)
class Finding:
    """Trouble that a run has, and what to do.

    Attributes
    ----------
    kind : str
        Key in `ADVICE`.
    epoch : int
        From which on, from 1; 0 where it is no epoch's.
    evidence : str
        The figures it is seen by.
    meaning : str
        What that means, in plain words.
    remedy : str
        What to do.
    expected : str
        What that should bring.
    plan : Plan or None
        With the remedy in it; None where it is nothing that a plan decides.
    """

    kind: str
    epoch: int
    evidence: str
    meaning: str
    remedy: str
    expected: str
    plan: Plan | None = None

    @property
    def sentence(self) -> str:
        """All of it in a line."""
        return f"{self.kind.capitalize()}: {self.evidence}. {self.meaning} {self.remedy}"


class Advice(ABC):
    """Base of the advice.

    Attributes
    ----------
    kind : str
        Its name.
    live : bool
        Whether it is given of a run that still trains.
    """

    kind: ClassVar[str]
    live: ClassVar[bool] = False

    @abstractmethod
    def find(self, run: Record) -> Finding | None:
        """What it has to say of a run; None if nothing."""


def changed(plan: Plan, *attempts: Callable[[Plan], Plan]) -> Plan | None:
    """A plan with the first change that is possible and makes a difference; None if there is none."""
    for attempt in attempts:
        try:
            other = attempt(plan)
        except LensError:
            continue
        if other != plan:
            return other
    return None


def set_to(**settings: object) -> Callable[[Plan], Plan]:
    """A change of settings, by dotted keys with two underscores for the dot."""
    return lambda plan: plan.changed({key.replace("__", "."): value for key, value in settings.items()})


def with_rate(plan: Plan, times: float) -> Plan:
    """With the learning rate multiplied, to two digits."""
    rate = float(f"{plan.optimiser.learning_rate * times:.2g}")
    return plan.changed({"optimiser.learning_rate": min(10.0, max(1e-8, rate))})
