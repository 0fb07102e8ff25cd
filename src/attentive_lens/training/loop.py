"""The loop: epochs of batches, judged on the validation set, kept, and stopped safely at any step."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.layers import Moment
from attentive_lens.images.feeding import Feed
from attentive_lens.plan.progress import Job, Progress
from attentive_lens.training.checkpoints import Checkpoints
from attentive_lens.training.journal import Journal
from attentive_lens.training.learner import Learner, Mark

JOURNAL_SECONDS = 0.25


@dataclass(frozen=True)
class Outcome:
    """How a run ended.

    Attributes
    ----------
    state : str
        "done" or "stopped".
    epochs : int
        Whole epochs trained.
    seconds : float
        Time from the first batch on.
    best : Mark or None
        Validation figures of the best epoch; None without a validation set.
    """

    state: str
    epochs: int
    seconds: float
    best: Mark | None


def run(
    learner: Learner,
    feed: Feed,
    held_out: tuple[NDArray[np.uint8], NDArray[np.int64]],
    epochs: int,
    checkpoints: Checkpoints,
    journal: Journal,
    card: Mapping[str, Any],
    stop: Callable[[], bool],
) -> Job[Outcome]:
    """Train.

    Parameters
    ----------
    learner : Learner
        What learns.
    feed : Feed
        Training batches.
    held_out : tuple of ndarrays
        Validation images M×S×S×C uint8 and their classes M int64; M may be 0.
    epochs : int
        To train.
    checkpoints, journal
        Where it is written down.
    card : mapping
        Goes with every checkpoint; figures are added.
    stop : callable
        Asked after every step; True ends the run after it, with everything kept.
    """
    began = time.perf_counter()
    best: Mark | None = None
    done = 0
    total = epochs * feed.batches
    for epoch in range(epochs):
        started, waited = time.perf_counter(), feed.waited
        loss, right, images = 0.0, 0, 0
        shown, since = time.perf_counter(), (0.0, 0)
        batches = feed.epoch(epoch)
        stopped = False
        for number, batch in enumerate(batches):
            mark = learner.learn(batch, Moment(feed.seed, epoch, number, 0))
            loss, right, images = loss + mark.loss * mark.images, right + mark.right, images + mark.images
            since = (since[0] + mark.loss * mark.images, since[1] + mark.images)
            step = epoch * feed.batches + number + 1
            if time.perf_counter() - shown > JOURNAL_SECONDS:
                journal.write("batch", epoch=epoch + 1, step=step, of=total, loss=since[0] / since[1])
                shown, since = time.perf_counter(), (0.0, 0)
            yield Progress(step, total, f"epoch {epoch + 1} of {epochs}")
            if stop():
                stopped = True
                batches.close()  # type: ignore[attr-defined]
                break
        if stopped and images < len(feed.members):
            checkpoints.write(learner, {**card, "epoch": done})
            return Outcome("stopped", done, time.perf_counter() - began, best)
        done = epoch + 1
        training = Mark(loss / images, right, images)
        validation = learner.judge(*held_out) if len(held_out[1]) else None
        is_best = _better(validation, best)
        if is_best:
            best = validation
        figures = {"training": _figures(training), "validation": _figures(validation) if validation else None}
        checkpoints.keep(learner, {**card, "epoch": done, **figures}, is_best)
        spent = {"seconds": time.perf_counter() - started, "waited": feed.waited - waited}
        journal.write("epoch", epoch=done, **figures, best=is_best, **{k: round(v, 3) for k, v in spent.items()})
        if stopped or (stop() and done < epochs):
            checkpoints.write(learner, {**card, "epoch": done, **figures})
            return Outcome("stopped", done, time.perf_counter() - began, best)
    checkpoints.write(learner, {**card, "epoch": done, **figures})
    return Outcome("done", done, time.perf_counter() - began, best)


def _better(new: Mark | None, best: Mark | None) -> bool:
    """More right answers, or as many at a lower loss; without a validation set the last epoch counts as best."""
    if new is None or best is None:
        return True
    return (new.right, -new.loss) > (best.right, -best.loss)


def _figures(mark: Mark) -> dict[str, float]:
    return {"accuracy": mark.accuracy, "loss": mark.loss}
