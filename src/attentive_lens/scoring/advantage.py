"""Whether one way of training is ahead of another when both end, from short trainings of both."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.random import random_generator

DRAWS = 4000
SEED = 0.02
"""Standard deviation of a training's accuracy by its seed, about."""
FARTHEST, HALVED = 3.0, 0.5
"""Doublings over which a gap is followed at most, and part of its errors that the other way may be left with after each
further one."""
WITHIN = 0.9
"""Part of the draws that an interval holds: one in twenty is below it."""


@dataclass(frozen=True)
class Advantage:
    """By how much more of the images one way is right than the other, as parts of them.

    Attributes
    ----------
    gain : float
        After the short trainings.
    final, low, high : float
        What is left of it where both are trained to the end, with its 90 % interval.
    """

    gain: float
    final: float
    low: float
    high: float


def advantage(
    halfway: NDArray[np.float64],
    ended: NDArray[np.float64],
    missed: NDArray[np.float64],
    doublings: float,
    trainings: int,
) -> Advantage:
    """What is left at the end of an advantage seen after short trainings, one half as long as the other.

    A way that begins with more is ahead early and may be caught up with. So the part of the gap that was left when the
    short trainings were twice as long is taken to be left with every further doubling. Gaps that do not close stay as
    they are. The interval is that of a bootstrap over images (Efron 1979), with the chance of the seeds added; where
    the whole training is many times as long, its lower end allows for the other way learning much that it misses now.

    Parameters
    ----------
    halfway, ended : ndarray, N
        Of each image: how much more often the one way is right than the other, −1 to 1, when the short trainings were
        half as long, and when they were whole.
    missed : ndarray, N
        Of each image: how often the other way was wrong about it, 0–1, when they were whole.
    doublings : float
        How often the short training must be doubled to be as long as the whole one.
    trainings : int
        Over which each way's answers are spread.
    """
    random = random_generator(0, "draws of images")
    chosen = random.integers(0, len(ended), (DRAWS, len(ended)))
    spread = SEED * np.sqrt(2 / trainings)
    early, late = (
        differences[chosen].mean(axis=1) + random.normal(0, spread, DRAWS) for differences in (halfway, ended)
    )
    steps = min(max(0.0, doublings), FARTHEST)
    final = _left(early, late, steps)
    errors = np.maximum(0.0, missed[chosen].mean(axis=1) - np.maximum(0.0, late - final))
    caught_up = errors * (1 - HALVED ** max(0.0, doublings - FARTHEST))
    low, high = np.quantile(final - caught_up, (1 - WITHIN) / 2), np.quantile(final, (1 + WITHIN) / 2)
    means = np.array([halfway.mean()]), np.array([ended.mean()])
    return Advantage(float(means[1][0]), float(_left(*means, steps)[0]), float(low), float(high))


def _left(early: NDArray[np.float64], late: NDArray[np.float64], steps: float) -> NDArray[np.float64]:
    """Of gaps: as much of them with every step as was left with the last."""
    closing = (late > 0) & (early > late)
    part = np.where(closing, late / np.where(closing, early, 1.0), 1.0)
    return late * part**steps
