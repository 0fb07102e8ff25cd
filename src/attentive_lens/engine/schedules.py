"""How the learning rate changes over a run: a factor as a function of the time, and of the validation losses so far.

To add one: a function and one line in `SCHEDULES`.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from attentive_lens.plan.settings import Training

Schedule = Callable[[Training, float, Sequence[float]], float]
"""(settings, epochs done, validation loss of each) → factor, above 0 and at most 1."""

LOWEST = 1e-3
"""A cosine and a cycle end at this part of the rate."""
RISE = 0.3
"""Part of a cycle in which the rate rises."""


def constant(settings: Training, at: float, losses: Sequence[float]) -> float:
    """1."""
    del settings, at, losses
    return 1.0


def steps(settings: Training, at: float, losses: Sequence[float]) -> float:
    """A fall after every so many epochs."""
    del losses
    return settings.falls ** math.floor(at / settings.every)


def exponential(settings: Training, at: float, losses: Sequence[float]) -> float:
    """As `steps`, evenly."""
    del losses
    return float(settings.falls ** (at / settings.every))


def cosine(settings: Training, at: float, losses: Sequence[float]) -> float:
    """Half a cosine down to a thousandth at the run's end (Loshchilov & Hutter 2017, eq. 5, one period)."""
    del losses
    return _down(at / settings.epochs)


def one_cycle(settings: Training, at: float, losses: Sequence[float]) -> float:
    """Up along a cosine for three tenths of the run, then down along one (Smith 2018, section 4)."""
    del losses
    share = at / settings.epochs
    return _down(1 - share / RISE) if share < RISE else _down((share - RISE) / (1 - RISE))


def plateau(settings: Training, at: float, losses: Sequence[float]) -> float:
    """A fall whenever the validation loss has not fallen by a thousandth for so many epochs."""
    del at
    best, waited, falls = math.inf, 0, 0
    for loss in losses:
        if loss < best * (1 - 1e-3):
            best, waited = loss, 0
        else:
            waited += 1
        if waited >= settings.every:
            falls, waited = falls + 1, 0
    return float(settings.falls**falls)


def _down(share: float) -> float:
    return LOWEST + (1 - LOWEST) * 0.5 * (1 + math.cos(math.pi * min(1.0, max(0.0, share))))


SCHEDULES: dict[str, Schedule] = {
    "constant": constant,
    "steps": steps,
    "exponential": exponential,
    "cosine": cosine,
    "one cycle": one_cycle,
    "plateau": plateau,
}


def rate(settings: Training, epoch: int, batch: int, batches: int, losses: Sequence[float]) -> float:
    """The learning rate of a step: epoch and batch from 0, batches in an epoch, validation loss of each epoch before.

    During the warm-up, the schedule's rate is multiplied by a line that ends at 1 (Goyal 2017, section 2.2).
    """
    at = epoch + batch / batches
    rising = 1.0 if settings.warm_up <= at else (epoch + (batch + 1) / batches) / settings.warm_up
    return settings.rate * min(1.0, rising) * SCHEDULES[settings.schedule](settings, at, losses)
