"""The learning-rate sweep: training for a moment at ever greater rates, and the loss that each leaves behind.

The rate rises by the same factor from step to step, and after every step the loss on the same images is taken, so that
what is drawn is what the rates did and not which images came (Smith 2017, «Cyclical learning rates for training neural
networks», section 3.3, takes that of the passing batches). The weights are thrown away.
"""

from __future__ import annotations

import math
import time
from dataclasses import dataclass
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.engine.layers import StepContext
from attentive_lens.errors import LensError
from attentive_lens.images.feeding import Batch, Feed
from attentive_lens.training.learner import NetworkLearner

LOWEST, HIGHEST = 1e-6, 10.0
"""Rates of the first and the last step."""
STEPS, FEWEST = 105, 35
"""Steps: fifteen for every tenfold, and five where more would take too long."""
SECONDS = 45.0
"""That a sweep should take at most; `FEWEST` steps are taken all the same."""
AWAY = 2.0
"""Times the first loss at which nothing is left to be learned from greater rates."""
WIDE = 3
"""Losses on each side that one is smoothed with."""
BEGUN = 0.1
"""Part of the whole fall from which on the loss falls clearly."""
RISEN = 0.35
"""Part of the fall so far by which the loss must rise for greater rates not to be looked at."""
LEAST_FALL = 0.05
"""Part of the first loss that must be learned for a rate to be suggested."""


Swept: TypeAlias = tuple[NDArray[np.float64], NDArray[np.float64]]
"""Rates, and the loss after a step with each."""


@dataclass(frozen=True)
class Suggestion:
    """Rates that learn, and the one to begin with.

    Attributes
    ----------
    lowest, highest : float
        Where the loss begins to fall clearly, and a third of where it is least, beyond which it rises again.
    rate : float
        Where it falls most steeply.
    """

    lowest: float
    highest: float
    rate: float


def sweep(learner: NetworkLearner, feed: Feed, judged: Batch) -> Job[Swept]:
    """Rates and the loss after a step with each, until the loss runs away.

    Parameters
    ----------
    learner : NetworkLearner
        With starting weights, which are changed.
    feed : Feed
        Training batches; they begin anew when they are used up.
    judged : Batch
        What the loss is taken on, prepared.
    """
    first, epoch, number = learner.loss_on(judged), 0, 0  # the first time, which may compile, is not timed
    began = time.perf_counter()
    learner.loss_on(judged)
    each = (time.perf_counter() - began) * (1 + feed.size / len(judged.images))
    steps = min(STEPS, max(FEWEST, int(SECONDS / each)))
    rates = np.geomspace(LOWEST, HIGHEST, steps)
    losses: list[float] = []
    batches = feed.batches_of(0)
    for step, rate in enumerate(rates):
        batch = next(batches, None)
        if batch is None:
            epoch, number = epoch + 1, 0
            batches = feed.batches_of(epoch)
            batch = next(batches)
        learner.driven_rate = float(rate)
        try:
            learner.learn(batch, StepContext(feed.seed, epoch, number, 0), feed.batches)
            loss = learner.loss_on(judged)
        except LensError:
            break  # the numbers ran away: nothing beyond is worth asking
        number += 1
        if not math.isfinite(loss) or loss > AWAY * first:
            break
        losses.append(loss)
        yield Progress(step + 1, steps, f"learning rate {rate:.2g}")
    batches.close()  # type: ignore[attr-defined]
    return rates[: len(losses)], np.array(losses)


def smoothed(losses: NDArray[np.float64]) -> NDArray[np.float64]:
    """The mean of each loss and the few about it, as many on both sides, so that nothing moves along the rates."""
    count = len(losses)
    reach = [min(WIDE, k, count - 1 - k) for k in range(count)]
    return np.array([losses[k - r : k + r + 1].mean() for k, r in enumerate(reach)])


def _turn(curve: NDArray[np.float64], first: float) -> int:
    """Where the loss has clearly risen again after it fell: beyond, networks that normalise may fall by chance."""
    least = np.minimum.accumulate(curve)
    fallen = first - least
    risen = (fallen > LEAST_FALL * first) & (curve - least > RISEN * fallen)
    return int(risen.argmax()) if risen.any() else len(curve)


def suggestion(rates: NDArray[np.float64], losses: NDArray[np.float64]) -> Suggestion | None:
    """What the losses after steps with rising rates say; None if no rate made them fall."""
    if len(losses) < 2 * WIDE + 1:
        return None
    curve = smoothed(losses)
    first = float(curve[:WIDE].mean())
    curve = curve[: _turn(curve, first)]
    least = int(curve.argmin())
    fall = first - float(curve[least])
    if fall < LEAST_FALL * first:
        return None
    high = np.flatnonzero(curve[: least + 1] > first - BEGUN * fall)
    begins = int(high[-1]) + 1 if len(high) else 0
    slopes = np.gradient(smoothed(curve), np.log(rates[: len(curve)]))
    steepest = begins + int(slopes[begins : least + 1].argmin())
    highest = max(float(rates[least]) / 3, float(rates[steepest]))
    return Suggestion(float(rates[begins]), highest, float(rates[steepest]))
