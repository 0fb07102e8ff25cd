"""The loop: epochs of batches, judged on the validation set, kept, and stopped safely at any step."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.records import PlainTable
from attentive_lens.engine.layers import StepContext
from attentive_lens.errors import LensError
from attentive_lens.images.feeding import Feed
from attentive_lens.images.rows import Chosen
from attentive_lens.training.checkpoints import Checkpoints
from attentive_lens.training.journal import Journal, JournalFault
from attentive_lens.training.learner import Learner, Metrics

JOURNAL_SECONDS = 0.25


@dataclass(frozen=True)
class Position:
    """Where a run stands: what the next step is, and what is known so far.

    Attributes
    ----------
    epoch, batch : int
        Of the next step, from 0.
    loss, right, images : float, int, int
        Sums over the epoch's batches so far.
    best : Metrics or None
        Validation figures of the best epoch so far.
    """

    epoch: int = 0
    batch: int = 0
    loss: float = 0.0
    right: int = 0
    images: int = 0
    best: Metrics | None = None

    def write(self) -> PlainTable:
        """A table that `read` makes this position from."""
        return asdict(self)

    @classmethod
    def read(cls, table: Mapping[str, Any]) -> Position:
        """From `write`."""
        best = table["best"]
        return cls(**{**table, "best": Metrics(**best) if best else None})

    def after(self, mark: Metrics) -> Position:
        """One batch further."""
        return replace(
            self,
            batch=self.batch + 1,
            loss=self.loss + mark.loss * mark.images,
            right=self.right + mark.right,
            images=self.images + mark.images,
        )


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
    best : Metrics or None
        Validation figures of the best epoch; None without a validation set.
    """

    state: str
    epochs: int
    seconds: float
    best: Metrics | None


def run(
    learner: Learner,
    feed: Feed,
    held_out: tuple[NDArray[np.uint8] | NDArray[np.float32] | Chosen, NDArray[np.int64]],
    epochs: int,
    checkpoints: Checkpoints,
    journal: Journal,
    card: Mapping[str, Any],
    stop: Callable[[], bool],
    position: Position | None = None,
) -> Job[Outcome]:
    """Train. What the journal tells of an epoch is on disk before: checkpoint first, journal after.

    Parameters
    ----------
    learner : Learner
        What learns.
    feed : Feed
        Training batches.
    held_out : tuple of ndarrays
        Validation images M×S×S×C uint8, or what is kept of them, and their classes M int64; M may be 0.
    epochs : int
        To train.
    checkpoints, journal
        Where it is written down.
    card : mapping
        Goes with every checkpoint; position and figures are added, and under ``untold`` the epochs it holds that the
        journal does not tell of yet.
    stop : callable
        Asked after every step; True ends the run after it, with everything kept.
    position : Position, optional
        Where to go on from; the learner stands there already.

    Raises
    ------
    LensError
        If the numbers blew up, or something cannot be written; the state before is kept as far as the disk allows.
    """
    began = time.perf_counter()
    here = position or Position()
    total = epochs * feed.batches
    figures: PlainTable = {}
    untold: list[PlainTable] = []

    def told() -> PlainTable:
        return {**card, "epoch": here.epoch, "position": here.write(), "untold": list(untold), **figures}

    def write() -> None:
        checkpoints.write(learner, told())
        tell()

    def tell() -> None:
        """Write down the epochs that the checkpoint on disk holds."""
        while untold:
            journal.write("epoch", **untold[0])
            untold.pop(0)

    def ended(state: str) -> Outcome:
        return Outcome(state, here.epoch, time.perf_counter() - began, here.best)

    while here.epoch < epochs:
        started, waited = time.perf_counter(), feed.waited
        shown, since = time.perf_counter(), (0.0, 0)
        batches, stopped = feed.epoch(here.epoch, here.batch), False
        for batch in batches:
            try:
                mark = learner.learn(batch, StepContext(feed.seed, here.epoch, here.batch, 0), feed.batches)
            except LensError:
                batches.close()  # type: ignore[attr-defined]
                write()
                raise
            here = here.after(mark)
            since = (since[0] + mark.loss * mark.images, since[1] + mark.images)
            step = here.epoch * feed.batches + here.batch
            if time.perf_counter() - shown > JOURNAL_SECONDS:
                try:
                    now = {"loss": since[0] / since[1], "learning_rate": learner.learning_rate}
                    journal.write("batch", epoch=here.epoch + 1, step=step, of=total, **now)
                except JournalFault:
                    batches.close()  # type: ignore[attr-defined]
                    checkpoints.write(learner, told())
                    raise
                shown, since = time.perf_counter(), (0.0, 0)
            yield Progress(step, total, f"epoch {here.epoch + 1} of {epochs}")
            if stop():
                stopped = True
                batches.close()  # type: ignore[attr-defined]
                break
            if here.batch < feed.batches and checkpoints.keep_now_and_then(learner, told):
                tell()
        if here.batch < feed.batches:
            write()
            return ended("stopped")
        training = Metrics(here.loss / here.images, here.right, here.images)
        try:
            validation = learner.evaluate(*held_out) if len(held_out[1]) else None
        except LensError:
            write()
            raise
        learner.on_epoch_end(validation)
        is_best = _better(validation, here.best)
        here = Position(epoch=here.epoch + 1, best=validation if is_best else here.best)
        figures = {"training": _figures(training), "validation": _figures(validation) if validation else None}
        rate, seconds = learner.learning_rate, round(time.perf_counter() - started, 3)
        spent = {"seconds": seconds, "waited": round(feed.waited - waited, 3)}
        untold.append({"epoch": here.epoch, **figures, "best": is_best, "learning_rate": rate, **spent})
        if checkpoints.keep(learner, told(), is_best):
            tell()
        if here.epoch < epochs and (stopped or stop()):
            write()
            return ended("stopped")
    write()
    return ended("done")


def _better(new: Metrics | None, best: Metrics | None) -> bool:
    """More right answers, or as many at a lower loss; without a validation set the last epoch counts as best."""
    if new is None or best is None:
        return True
    return (new.right, -new.loss) > (best.right, -best.loss)


def _figures(mark: Metrics) -> dict[str, float]:
    return {"accuracy": mark.accuracy, "loss": mark.loss}
