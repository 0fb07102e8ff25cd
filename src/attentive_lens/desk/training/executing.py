"""Executing a claimed run, in this process."""

from __future__ import annotations

import contextlib
import os
import platform
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

import numpy as np

from attentive_lens.core.files import remove_leftovers
from attentive_lens.core.jobs import Job, Stopped, finish
from attentive_lens.core.records import PlainTable
from attentive_lens.core.version import VERSION
from attentive_lens.desk.compiling import compiled
from attentive_lens.desk.training.controlling import RunControl
from attentive_lens.desk.training.first_thresholds import choose_first
from attentive_lens.desk.training.preparing import Setup, last_checkpoint, prepare
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.desktop.bus import staying_awake
from attentive_lens.engine.network import fingerprint
from attentive_lens.engine.ranks import ALONE, Ranks
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadValue, LensError
from attentive_lens.formats.reading import read_model
from attentive_lens.images.feeding import Feed
from attentive_lens.plan.plan import Plan
from attentive_lens.training.checkpoints import Checkpoints
from attentive_lens.training.control import STOP
from attentive_lens.training.journal import Journal
from attentive_lens.training.learner import NetworkLearner
from attentive_lens.training.loop import Outcome, Position, run
from attentive_lens.training.team import Team, follow
from attentive_lens.workspace import Run, Workspace

T = TypeVar("T")
INPUT_IMAGES = 64
"""On which the prepared images' mean and standard deviation are taken."""


@dataclass(frozen=True)
class Trained:
    """A run that ended: how, and the fingerprint of its best weights (empty if no epoch was finished)."""

    run: Run
    outcome: Outcome
    weights_sha256: str


@dataclass(frozen=True)
class Launch:
    """How this process carries a run out.

    Attributes
    ----------
    resume : bool
        Whether it was begun before.
    lock : int or None
        From `Run.hold`, where the process that started this one held the run for it.
    until : int
        Epochs after which it stops, to go on later; 0 for none.
    threads : int
        Instead of the plan's; 0 for those.
    ranks : Ranks
        Processes that train it with this one, which leads them: they `follow`.
    """

    resume: bool = False
    lock: int | None = None
    until: int = 0
    threads: int = 0
    ranks: Ranks = ALONE


AS_NEW = Launch()


def execute(workspace: Workspace, claimed: Run, stop: Callable[[], bool], launch: Launch = AS_NEW) -> Job[Trained]:
    """Train a claimed run to its end, or go on with one that was stopped or broken off.

    One that goes on ends with the same weights, to the bit, as if it had never been interrupted; without a checkpoint
    it begins anew. Its journal ends with exactly one ``end`` event, whatever happens short of being killed or of a
    full disk.

    Parameters
    ----------
    workspace, claimed
        Whose run.
    stop : callable
        Asked after every step.
    launch : Launch
        How.

    Raises
    ------
    LensError
        If the images, the base or the numbers do not allow it; the journal holds the same sentence.
    """
    lock = launch.lock
    held = lock if lock is not None and _is_open(lock) else claimed.hold()
    try:
        remove_leftovers(claimed.folder)
        why = f"Run {claimed.number} of {workspace.name} trains"
        with Journal(claimed.journal) as journal, staying_awake(why):
            try:
                control = RunControl(claimed, stop, launch.until)
                trained = yield from _execute(workspace, claimed, journal, control, launch)
            except LensError as error:
                _end(journal, state="failed", error=str(error))
                raise
            except (GeneratorExit, KeyboardInterrupt, Stopped):
                _end(journal, state="stopped", error="")
                raise
            except BaseException as error:
                _end(journal, state="failed", error=f"A fault of the program: {error!r}")
                raise
            journal.write(
                "end",
                state=trained.outcome.state,
                epochs=trained.outcome.epochs,
                seconds=round(trained.outcome.seconds, 3),
                weights_sha256=trained.weights_sha256,
                reason=trained.outcome.reason,
            )
            return trained
    finally:
        os.close(held)


def _is_open(file: int) -> bool:
    try:
        os.fstat(file)
    except OSError:
        return False
    return True


def _end(journal: Journal, **values: object) -> None:
    """Tell how it ended, if the journal can be written."""
    with contextlib.suppress(LensError):
        journal.write("end", **values)


def _execute(workspace: Workspace, claimed: Run, journal: Journal, control: RunControl, launch: Launch) -> Job[Trained]:
    plan, ranks = claimed.plan(), launch.ranks
    last = last_checkpoint(claimed) if launch.resume else None
    position = Position.read(last.card["position"]) if last else Position()
    if launch.resume:
        journal.write("resume", epoch=position.epoch)
    if last is None:
        loss = plan.task.loss_words(plan.loss)
        journal.write("start", plan=plan.name, epochs=plan.training.epochs, loss_function=loss)
    else:
        epochs_told = {epoch.epoch for epoch in RunReader(claimed).view().epochs}
        for epoch in last.card.get("untold", ()):
            if epoch["epoch"] not in epochs_told:
                journal.write("epoch", **epoch)
    yield from _unless(lambda: control.word() == STOP, compiled())
    setup = yield from prepare(workspace, claimed, last)
    if last is None:
        claimed.keep_images(setup.data.collection.rows, setup.data.collection.sets, setup.names, setup.data.regions)
        _tell_input(journal, setup.feed)
    with ThreadPool(launch.threads or threads_of(setup.plan, ranks)) as thread_pool:
        learner = setup.learner(claimed, thread_pool, ranks)
        judged = yield from _unless(
            lambda: control.word() == STOP, setup.with_frozen_outputs(workspace, learner, thread_pool)
        )
        _call(ranks, claimed.number, last is not None, setup, learner)
        outcome = yield from run(
            learner,
            setup.feed,
            judged or setup.held_out(),
            setup.plan,
            Checkpoints(
                claimed.checkpoints,
                setup.model(),
                keep_last=plan.training.keep_last,
                keep_every=plan.training.keep_every,
                seconds=plan.training.checkpoint_minutes * 60,
            ),
            journal,
            {"plan": setup.plan.write(), "run": claimed.number, "versions": _versions()},
            control,
            position,
        )
        if outcome.epochs and plan.task.several:
            yield from choose_first(claimed, setup, thread_pool)
    sha = fingerprint(read_model(claimed.model).weights) if outcome.epochs else ""
    return Trained(claimed, outcome, sha)


def threads_of(plan: Plan, ranks: Ranks) -> int:
    """Threads of this process: the plan's, shared with the others on this machine."""
    return max(1, plan.training.threads // ranks.local)


def _call(ranks: Ranks, number: int, resume: bool, setup: Setup, learner: NetworkLearner) -> None:
    """Have the others stand where this process stands."""
    if ranks.count == 1:
        return
    ranks.say("train", run=number, resume=resume, kept=setup.feed.frozen_outputs is not None)
    mark = setup.mark(learner)
    for other, their_mark in enumerate(ranks.gather_words(mark), 1):
        if their_mark != mark:
            alike = len(their_mark) == len(mark) and " " not in their_mark
            why = (
                "it sees other images or labels, or has another version of a library"
                if alike
                else their_mark.rstrip(".")
            )
            raise BadValue(
                f"Process {other} of {ranks.count} cannot take part", why, "Give every machine the same workspace"
            )


def follow_run(folder: Path, team: Team) -> None:
    """Train with the first process of a team what it trains, until it ends."""
    order = team.hear()
    if order["do"] != "train":
        return
    with ExitStack() as stack:
        try:
            workspace = Workspace.open(folder)
            claimed = workspace.run(int(order["run"]))
            setup = finish(prepare(workspace, claimed, last_checkpoint(claimed) if order["resume"] else None))
            thread_pool = stack.enter_context(ThreadPool(threads_of(setup.plan, team)))
            learner = setup.learner(claimed, thread_pool, team)
            judged = (
                finish(setup.with_frozen_outputs(workspace, learner, thread_pool))
                if order["kept"]
                else setup.held_out()
            )
        except LensError as error:
            team.gather_words(str(error))
            while team.hear()["do"] != "end":
                pass
            return
        team.gather_words(setup.mark(learner))
        follow(team, learner, setup.feed, judged)


def _unless(request: Callable[[], bool], job: Job[T | None]) -> Job[T | None]:
    """A job's result, or None where somebody asks to stop before."""
    while True:
        try:
            progress = next(job)
        except StopIteration as end:
            result: T | None = end.value
            return result
        yield progress
        if request():
            job.close()
            return None


def _tell_input(journal: Journal, feed: Feed) -> None:
    """Note mean and spread of some prepared images, without augmentation, and batches and images of an epoch."""
    values = feed.preprocessor.apply(feed.pixels[feed.members[:: max(1, len(feed.members) // INPUT_IMAGES)]])
    mean, std = float(values.mean(dtype=np.float64)), float(values.std(dtype=np.float64))
    journal.write("input", mean=round(mean, 4), std=round(std, 4), batches=feed.batches, images=len(feed.members))


def _versions() -> PlainTable:
    return {
        "attentive_lens": VERSION,
        "numpy": np.__version__,
        "python": platform.python_version(),
    }
