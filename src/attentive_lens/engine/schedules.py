"""How the learning rate changes over a run: a factor as a function of the step, and of the validation losses so far.

To add one: a function and a line in `SCHEDULES` here, its settings and a line in ``plan/schedules``.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from attentive_lens.core.extensions import Parts, raising
from attentive_lens.plan.schedules import (
    Constant,
    Cosine,
    Exponential,
    OneCycle,
    Plateau,
    ScheduleSettings,
    Step,
)

LEAST_GAIN = 1e-3
"""Part by which a validation loss must fall to count as better."""


@dataclass(frozen=True)
class At:
    """Where a run stands.

    Attributes
    ----------
    step : int
        Of the run, from 0.
    batches, epochs : int
        Batches in an epoch, epochs in the run.
    losses : sequence of float
        Validation loss of each epoch so far.
    most : int
        Batches after which the run ends all the same; 0: when its epochs are over.
    """

    step: int
    batches: int
    epochs: int
    losses: Sequence[float] = ()
    most: int = 0

    @property
    def fraction(self) -> float:
        """Of the run, 0 to 1."""
        whole = self.batches * self.epochs
        return self.step / (min(whole, self.most) if self.most else whole)


def in_batches(epochs: float, batches: int) -> int:
    """Epochs as a whole number of batches, at least one: steps are counted in integers, never in parts of an epoch."""
    return max(1, round(epochs * batches))


def constant(settings: Constant, at: At) -> float:
    """1."""
    del settings, at
    return 1.0


def step(settings: Step, at: At) -> float:
    """γ to the number of whole step sizes so far."""
    return float(settings.gamma ** (at.step // in_batches(settings.step_size, at.batches)))


def exponential(settings: Exponential, at: At) -> float:
    """γ to the epochs so far."""
    return float(settings.gamma ** (at.step / at.batches))


def cosine(settings: Cosine, at: At) -> float:
    """Half a cosine down to the final factor at the run's end (Loshchilov & Hutter 2017, eq. 5, one period)."""
    return _down(at.fraction, settings.final_factor)


def one_cycle(settings: OneCycle, at: At) -> float:
    """Up along a cosine for the first part of the run, then down along one (Smith 2018, section 4)."""
    rise, fraction = settings.rise, at.fraction
    gone = 1 - fraction / rise if fraction < rise else (fraction - rise) / (1 - rise)
    return _down(gone, settings.final_factor)


def plateau(settings: Plateau, at: At) -> float:
    """A fall whenever the validation loss has not fallen by a thousandth for as many epochs as patience allows."""
    best, waited, falls = math.inf, 0, 0
    for loss in at.losses:
        if loss < best * (1 - LEAST_GAIN):
            best, waited = loss, 0
        else:
            waited += 1
        if waited >= settings.patience:
            falls, waited = falls + 1, 0
    return float(settings.gamma**falls)


def _down(gone: float, final: float) -> float:
    return final + (1 - final) * 0.5 * (1 + math.cos(math.pi * min(1.0, max(0.0, gone))))


# Any: each takes the settings of its own kind
SCHEDULES: Parts[Callable[[Any, At], float]] = Parts(
    {
        "constant": constant,
        "step": step,
        "exponential": exponential,
        "cosine": cosine,
        "one cycle": one_cycle,
        "plateau": plateau,
    },
    "engine.schedules",
    raising,
    lambda thing: thing if callable(thing) else None,
)


def learning_rate_factor(settings: ScheduleSettings, at: At) -> float:
    """What the learning rate of a step is multiplied by, 0 to 1.

    During the warm-up, the schedule's factor is multiplied by a line that ends at 1 (Goyal 2017, section 2.2).
    """
    factor = SCHEDULES[settings.kind](settings, at)
    if settings.warmup_epochs:
        factor *= min(1.0, (at.step + 1) / in_batches(settings.warmup_epochs, at.batches))
    return factor
