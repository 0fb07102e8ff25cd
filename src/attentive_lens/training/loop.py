"""The loop: epochs of batches, judged on the validation set, kept, paused and stopped safely at any step."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.records import PlainTable
from attentive_lens.engine.layers import StepContext
from attentive_lens.errors import LensError
from attentive_lens.images.feeding import Batch, Feed
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.images.rows import Chosen
from attentive_lens.plan.measures import MEASURES
from attentive_lens.plan.plan import Plan
from attentive_lens.scoring.more_measures import check_known
from attentive_lens.training.checkpoints import Checkpoints
from attentive_lens.training.control import PAUSE, STOP, STOP_AFTER_EPOCH, Control
from attentive_lens.training.film import SHOWN, is_due
from attentive_lens.training.journal import Journal, JournalFault
from attentive_lens.training.last_batch import MOST, SECONDS, LastBatch
from attentive_lens.training.learner import Learner
from attentive_lens.training.metrics import Metrics
from attentive_lens.training.stopping import AFTER_EPOCHS, WITHIN_EPOCHS, Course, ended

JOURNAL_SECONDS = 0.25
PAUSE_SECONDS = 0.05
"""Between two looks at whether a pause is over."""
HEALTH_IMAGES, HEALTH_SHARE = 64, 60
"""Images on which layers are looked at after an epoch: so many, and one of so many training images, at most."""

MOST_CELLS = 20_000
"""Cells of a confusion matrix beyond which an epoch's answers by class are not noted: journals stay small."""

History = tuple[Mapping[str, Mapping[str, float]], ...]


@dataclass(frozen=True)
class Position:
    """Where a run stands: what the next step is, and what is known so far.

    Attributes
    ----------
    epoch, batch : int
        Of the next step, from 0.
    loss, right, images : float, int or None, int
        Sums over the epoch's batches so far; no images are right where no classes are answered.
    more : dict
        Sums of further measures, where training knows them.
    best : dict or None
        Validation figures of the best epoch so far, by measure.
    history : tuple of dict
        Figures of every epoch, by measure, under ``training`` and ``validation``.
    seconds : float
        Trained so far, pauses not counted.
    """

    epoch: int = 0
    batch: int = 0
    loss: float = 0.0
    right: int | None = 0
    images: int = 0
    more: Mapping[str, float] = field(default_factory=dict)
    best: Mapping[str, float] | None = None
    history: History = ()
    seconds: float = 0.0

    def write(self) -> PlainTable:
        """A table that `read` makes this position from."""
        return asdict(self)

    @classmethod
    def read(cls, table: Mapping[str, Any]) -> Position:
        """From `write`."""
        best = table["best"]
        if best and "right" in best:  # as it was written before there were measures to choose from
            best = {"accuracy": best["right"] / max(1, best["images"]), "loss": best["loss"]}
        return cls(**{**table, "best": best, "history": tuple(table.get("history", ()))})

    def after(self, mark: Metrics) -> Position:
        """One batch further."""
        return replace(
            self,
            batch=self.batch + 1,
            loss=self.loss + mark.loss * mark.images,
            right=None if self.right is None or mark.right is None else self.right + mark.right,
            images=self.images + mark.images,
            more={name: self.more.get(name, 0.0) + value * mark.images for name, value in mark.more.items()},
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
        Time from the first batch of this process on.
    best : dict or None
        Validation figures of the best epoch, by measure; None without a validation set.
    reason : str
        By which rule it ended before its epochs were over.
    """

    state: str
    epochs: int
    seconds: float
    best: Mapping[str, float] | None
    reason: str = ""


def run(
    learner: Learner,
    feed: Feed,
    held_out: tuple[PixelArray | Chosen, NDArray[np.int64]],
    plan: Plan,
    checkpoints: Checkpoints,
    journal: Journal,
    card: Mapping[str, Any],
    control: Control,
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
        Validation images M×H×W×C uint8, or what is kept of them, and their classes M int64; M may be 0.
    plan : Plan
        Epochs to train, how often to evaluate, what the best epoch is chosen by, and the rules that end a run.
    checkpoints, journal
        Where it is written down.
    card : mapping
        Goes with every checkpoint; position and figures are added, and under ``untold`` the epochs it holds that the
        journal does not tell of yet.
    control : Control
        Asked after every step.
    position : Position, optional
        Where to go on from; the learner stands there already.

    Raises
    ------
    LensError
        If the numbers blew up, or something cannot be written; the state before is kept as far as the disk allows.
    """
    loop = _Loop(learner, feed, held_out, plan, checkpoints, journal, card, control, position or Position())
    return (yield from loop.run())


class _Clock:
    """Seconds of training, pauses left out, on top of those of earlier processes."""

    def __init__(self, before: float) -> None:
        self.before = before
        self._from = time.perf_counter()

    def seconds(self) -> float:
        """So far."""
        return self.before + time.perf_counter() - self._from

    def leave_out(self, seconds: float) -> None:
        """Count so many less."""
        self._from += seconds


class _Loop:
    """A run on its way."""

    def __init__(
        self,
        learner: Learner,
        feed: Feed,
        held_out: tuple[PixelArray | Chosen, NDArray[np.int64]],
        plan: Plan,
        checkpoints: Checkpoints,
        journal: Journal,
        card: Mapping[str, Any],
        control: Control,
        here: Position,
    ) -> None:
        self.learner, self.feed, self.held_out, self.plan = learner, feed, held_out, plan
        self.checkpoints, self.journal, self.card, self.control, self.here = checkpoints, journal, card, control, here
        self.epochs, self.rules = plan.training.epochs, plan.stopping
        whole = self.epochs * feed.batches
        self.total = min(whole, self.rules.batches) if self.rules.batches else whole
        self.figures: PlainTable = {}
        self.untold: list[PlainTable] = []
        self.clock = _Clock(here.seconds)
        self.started = self.waited = 0.0
        self.looked = -SECONDS

    def run(self) -> Job[Outcome]:
        """To its end, or until somebody stops it."""
        reason = ended(self.rules, self.course())
        while self.here.epoch < self.epochs and not reason:
            word, reason = yield from self.epoch()
            if word == STOP and not reason and self.here.batch < self.feed.batches:
                self.write()
                return self.outcome("stopped")
            self.close_epoch(reason)
            reason = reason or ended(self.rules, self.course(), AFTER_EPOCHS)
            word = word or self.control.word()
            request = word in (STOP, STOP_AFTER_EPOCH) or 0 < self.control.until() <= self.here.epoch
            if self.here.epoch < self.epochs and not reason and request:
                self.write()
                return self.outcome("stopped")
        self.write()
        return self.outcome("done", reason)

    def epoch(self) -> Job[tuple[str, str]]:
        """The batches left of an epoch: what somebody asked for meanwhile, and by which rule the run ended in it."""
        self.started, self.waited = self.clock.seconds(), self.feed.waited
        batches = self.feed.batches_of(self.here.epoch, self.here.batch)
        try:
            return (yield from self.steps(batches))
        except JournalFault:
            self.checkpoints.write(self.learner, self.state_card())
            raise
        finally:
            batches.close()  # type: ignore[attr-defined]

    def steps(self, batches: Iterator[Batch]) -> Job[tuple[str, str]]:
        """Learn from some batches."""
        learner, feed = self.learner, self.feed
        shown, since = time.perf_counter(), (0.0, 0)
        for batch in batches:
            self.take_rate()
            context = StepContext(feed.seed, self.here.epoch, self.here.batch, 0)
            try:
                mark = learner.learn(batch, context, feed.batches)
            except LensError:
                self.write()
                raise
            here = self.here = self.here.after(mark)
            since = (since[0] + mark.loss * mark.images, since[1] + mark.images)
            if time.perf_counter() - shown > JOURNAL_SECONDS:
                now = {"loss": since[0] / since[1], "learning_rate": learner.learning_rate}
                self.journal.write("batch", epoch=here.epoch + 1, step=self.step, of=self.total, **now)
                shown, since = time.perf_counter(), (0.0, 0)
            self.show(batch)
            yield Progress(self.step, self.total, f"epoch {here.epoch + 1} of {self.epochs}")
            word = self.control.word()
            if word == PAUSE:
                word = yield from self.pause()
            reason = ended(self.rules, self.course(), WITHIN_EPOCHS)
            if reason or word == STOP or here.batch >= feed.batches:
                return word, reason
            if self.checkpoints.keep_now_and_then(learner, self.state_card):
                self.tell()
        return "", ""

    def show(self, batch: Batch) -> None:
        """Some images of the batch that was just learned from, now and then."""
        now = time.perf_counter()
        if now - self.looked < SECONDS or not len(self.learner.predicted):
            return
        self.looked = now
        images, rows = self.feed.pictures(self.here.epoch, self.here.batch - 1, min(MOST, len(self.learner.predicted)))
        wanted, count = batch.targets.argmax(axis=1), len(images)
        at = self.here.epoch + 1, self.step
        self.control.show(LastBatch(*at, images, self.learner.predicted[:count], wanted[:count], rows + 1))

    def take_rate(self) -> None:
        """Use a learning rate from now on that somebody set, written down before it is."""
        rate = self.control.rate()
        if rate is None:
            return
        step = self.step
        self.learner.rates = (*((first, old) for first, old in self.learner.rates if first < step), (step, rate))
        self.control.keep_rates(self.learner.rates)
        self.journal.write("rate", epoch=self.here.epoch + 1, step=step, learning_rate=rate)

    def pause(self) -> Job[str]:
        """Wait, with everything on disk, until something else is asked for."""
        began = time.perf_counter()
        self.write()
        self.journal.write("pause", epoch=self.here.epoch + 1, step=self.step)
        while (word := self.control.word()) == PAUSE:
            time.sleep(PAUSE_SECONDS)
            yield Progress(self.step, self.total, "paused")
        self.clock.leave_out(time.perf_counter() - began)
        self.journal.write("continue", epoch=self.here.epoch + 1, step=self.step)
        return word

    def close_epoch(self, reason: str) -> None:
        """Judge an epoch, keep what it gave, and stand at the beginning of the next one."""
        learner, here = self.learner, self.here
        more = {name: total / here.images for name, total in here.more.items()}
        training = Metrics(here.loss / here.images, here.right, here.images, more)
        learner.before_evaluation(min(1.0, self.step / self.total))
        due = (here.epoch + 1) % self.plan.training.evaluate_every == 0
        last = here.epoch + 1 >= self.epochs or bool(reason)
        try:
            validation = learner.evaluate(*self.held_out) if len(self.held_out[1]) and (due or last) else None
        except LensError:
            self.write()
            raise
        health = learner.health(min(HEALTH_IMAGES, max(8, len(self.feed.members) // HEALTH_SHARE)))
        if is_due(here.epoch + 1, self.epochs):
            images, labels = self.held_out
            places = np.unique(np.linspace(0, max(0, len(labels) - 1), SHOWN).astype(np.int64))[: len(labels)]
            frame = learner.frame(here.epoch + 1, images[places])
            if frame is not None:
                self.control.keep_frame(frame)
        learner.on_epoch_end(validation)
        is_best = self.is_best(validation)
        figures = {"training": training.figures, **({"validation": validation.figures} if validation else {})}
        self.here = Position(
            epoch=here.epoch + 1,
            best=validation.figures if validation is not None and is_best else here.best,
            history=(*here.history, figures),
        )
        self.figures = {"training": training.noted(), "validation": validation.noted() if validation else None}
        self.untold.append(
            {
                "epoch": self.here.epoch,
                **self.figures,
                "best": is_best,
                "learning_rate": learner.learning_rate,
                "seconds": round(self.clock.seconds() - self.started, 3),
                "waited": round(self.feed.waited - self.waited, 3),
                "by_class": _noted(validation),
                "health": asdict(health) if health else None,
            }
        )
        if self.checkpoints.keep(learner, self.state_card(), is_best):
            self.tell()

    def is_best(self, new: Metrics | None) -> bool:
        """Better by the plan's measure, or as good at a lower loss; until one was evaluated the last epoch counts."""
        if new is None:
            return self.here.best is None
        if not self.plan.best_by:
            return True
        measure = MEASURES[self.plan.best_by]
        check_known(measure.name, new.figures)
        if self.here.best is None:
            return True
        now, best = new.figures[measure.name], self.here.best.get(measure.name)
        if now == best:
            return new.loss < self.here.best["loss"]
        return best is None or measure.better(now, best)

    @property
    def step(self) -> int:
        """Steps done in the run."""
        return self.here.epoch * self.feed.batches + self.here.batch

    def course(self) -> Course:
        """What the run has come to."""
        return Course(self.step, self.clock.seconds(), self.here.history)

    def outcome(self, state: str, reason: str = "") -> Outcome:
        """How it ends now."""
        return Outcome(state, self.here.epoch, self.clock.seconds() - self.clock.before, self.here.best, reason)

    def state_card(self) -> PlainTable:
        """What goes with a checkpoint."""
        position = replace(self.here, seconds=round(self.clock.seconds(), 3)).write()
        own = {"epoch": self.here.epoch, "position": position, "untold": list(self.untold)}
        return {**self.card, **own, **self.figures}

    def write(self) -> None:
        """Keep everything now."""
        self.checkpoints.write(self.learner, self.state_card())
        self.tell()

    def tell(self) -> None:
        """Write down the epochs that the checkpoint on disk holds."""
        while self.untold:
            self.journal.write("epoch", **self.untold[0])
            self.untold.pop(0)


def _noted(validation: Metrics | None) -> PlainTable | None:
    """An epoch's answers by class, where they are known and not too many."""
    by_class = validation.by_class if validation is not None else None
    return asdict(by_class) if by_class is not None and len(by_class.confusion) <= MOST_CELLS else None
