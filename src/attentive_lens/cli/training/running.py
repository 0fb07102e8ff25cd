"""Training in this process, from the terminal or as the window's child."""

from __future__ import annotations

import os
import signal
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext, suppress
from dataclasses import dataclass, replace
from pathlib import Path
from threading import Timer

import typer

from attentive_lens.cli.speaking import STOPPED, console, out, say_json, watched
from attentive_lens.cli.training.planning import planned_in
from attentive_lens.cli.training.run_results import RunEnded, RunQueued
from attentive_lens.desk.images.data import several_labels
from attentive_lens.desk.images.outlines import caution_of_crops
from attentive_lens.desk.requests.bases import DOES_NOT, ProbeBase
from attentive_lens.desk.training.advising import advice_of
from attentive_lens.desk.training.cautions import caution_of_scale, caution_of_sets
from attentive_lens.desk.training.executing import Launch, Trained, execute, follow_run
from attentive_lens.desk.training.machine import caution_of_machine
from attentive_lens.desk.training.queue import enqueue, start_next, waiting
from attentive_lens.desk.training.runs import RunReader, RunView, check_resumable
from attentive_lens.desktop.bus import notify
from attentive_lens.engine.ranks import ALONE
from attentive_lens.errors import BadUsage, LensError
from attentive_lens.plan.plan import Plan
from attentive_lens.training.figures import Figures
from attentive_lens.training.journal import EpochEvent
from attentive_lens.training.team import Team, joined
from attentive_lens.workspace import Run, Workspace

STOPPING = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
"""Each asks to stop after the step at hand."""
LAST_SECONDS = 5.0
"""After the second request the process is gone."""


@dataclass(frozen=True)
class Which:
    """The run that is to be trained: of a plan, claimed already by number, or one that goes on."""

    plan: Path | None
    settings: list[str]
    claimed: int | None = None
    resume: int | None = None
    go_on: bool = False


def train_here(workspace: Path, which: Which, launch: Launch, as_json: bool) -> None:
    """Train a plan, or the claimed run, or go on with an interrupted one, and tell how it ended.

    Started as one of several processes, it takes part in what the first of them trains.
    """
    team = joined() if which.claimed is None else None
    if team is not None and team.index:
        _follow(workspace, team)
        return
    with team or nullcontext():
        trained = _lead(workspace, which, replace(launch, ranks=team or ALONE))
    if as_json:
        say_json(summary(trained))
    else:
        _say(trained)
        place, run = Workspace.open(workspace), trained.run
        for finding in advice_of(place, run, RunReader(run).view()):
            out.print(finding.sentence)
    if trained.outcome.state == "stopped":
        raise typer.Exit(STOPPED)


def _follow(workspace: Path, team: Team) -> None:
    """Train with the first process, which alone hears of signals and tells what came of it."""
    for number in STOPPING:
        signal.signal(number, signal.SIG_IGN)
    try:
        follow_run(workspace, team)
        team.gone()
    except Exception as error:
        console.print(f"process {team.index + 1} of {team.count} ended, and the run with it: {error}")
        team.end_all()
        raise


def _lead(workspace: Path, which: Which, launch: Launch) -> Trained:
    place = Workspace.open(workspace)
    if which.resume is not None:
        run = place.run(which.resume)
        if which.plan or which.settings:
            raise BadUsage("A run goes on with its own plan", "it never changes", "Leave out --plan and --set")
        check_resumable(run)
    elif which.claimed is None:
        plan = planned_in(workspace, which.plan, which.settings)
        _warn_of_base(workspace, plan)
        rows = place.catalogue.images()
        for caution in (
            caution_of_scale(plan.preprocessing, rows),
            caution_of_crops(place, plan.preprocessing, (row.number for row in rows)),
            caution_of_sets(plan.task, several_labels(place)),
            caution_of_machine(),
        ):
            if caution:
                console.print(caution)
        run = place.claim_run(plan)
    else:
        run = place.run(which.claimed)
        if not which.go_on and run.journal.exists():
            raise BadUsage(
                f"Run {which.claimed} was begun already", "only a new run is claimed", "Let it go on with --resume"
            )
    try:
        trained = train_run(place, run, replace(launch, resume=which.go_on or which.resume is not None))
    except LensError:
        if which.claimed is not None:
            _tell_desktop(place, run)
            start_next(place)
        raise
    if which.claimed is not None:
        _tell_desktop(place, run)
    if which.claimed is not None and (trained.outcome.state != "stopped" or run.command()):
        start_next(place)  # not where this process was told to end: whoever did that wants no other
    return trained


def _tell_desktop(place: Workspace, run: Run) -> None:
    """How a run ended that a window began, or a queue, where no window is there to tell it."""
    if not place.has_window:
        sentence, bad = RunReader(run).view().end_in_words
        notify(place.name, sentence, bad)


def queue_here(workspace: Path, plan_file: Path | None, settings: list[str], resume: int | None, as_json: bool) -> None:
    """Let a plan wait for its turn, and say so."""
    if resume is not None:
        raise BadUsage("A run that goes on does not wait", "only new runs stand in the queue", "Leave out --queue")
    place = Workspace.open(workspace)
    run = enqueue(place, planned_in(workspace, plan_file, settings))
    view = RunReader(run).view()
    if as_json:
        say_json(RunQueued(run.number, view.state, len(waiting(place))))
    elif view.state == "waiting":
        out.print(f"run {run.number} waits; it begins by itself when those before it have ended")
    else:
        out.print(f"run {run.number} trains in a process of its own: «attentive-lens watch» follows it")


def _say(trained: Trained) -> None:
    run, best = trained.run, trained.outcome.best
    figures = f", best validation {Figures.made(best).named_in_words}" if best else ""
    out.print(
        f"run {run.number} {trained.outcome.state}: {trained.outcome.epochs} epochs in"
        f" {trained.outcome.seconds:.0f} s{figures}"
    )
    if trained.outcome.reason:
        out.print(f"ended by {trained.outcome.reason}")
    if trained.outcome.epochs:
        out.print(f"model: {run.model}")


def train_run(place: Workspace, run: Run, launch: Launch) -> Trained:
    """Execute a claimed run with a bar and a line an epoch; Ctrl+C and SIGTERM stop it after the step at hand."""
    epochs = NewEpochs(run)
    with stopping() as stopped:
        job = execute(place, run, lambda: bool(stopped), launch)
        return watched(job, f"training run {run.number}", epochs.lines)


class NewEpochs:
    """The lines of a run's epochs, each once.

    Parameters
    ----------
    run : Run
        Followed; what it did before is told first.
    """

    def __init__(self, run: Run) -> None:
        self._reader = RunReader(run)
        self._told = 0
        self.view: RunView = self._reader.view()

    def lines(self) -> list[str]:
        """What is new since the last call."""
        self.view = self._reader.view()
        self._told = min(self._told, len(self.view.epochs))  # a run that goes on takes back what was told of later
        new = self.view.epochs[self._told :]
        self._told += len(new)
        return [epoch_line(epoch) for epoch in new]


def epoch_line(epoch: EpochEvent) -> str:
    """One epoch in words and figures."""
    held = f" · validation {epoch.validation.in_words}" if epoch.validation is not None else ""
    star = " · best so far" if epoch.best else ""
    return (
        f"epoch {epoch.epoch:>3} · training {epoch.training.in_words}{held}"
        f" · learning rate {epoch.learning_rate:.3g} · {epoch.seconds:.1f} s{star}"
    )


def summary(trained: Trained) -> RunEnded:
    """What `train --json` prints."""
    best, outcome = trained.outcome.best, trained.outcome
    validation = Figures.made(best) if best else None
    model = str(trained.run.model) if outcome.epochs else None
    seconds = round(outcome.seconds, 3)
    number, sha = trained.run.number, trained.weights_sha256
    return RunEnded(number, outcome.state, outcome.epochs, seconds, sha, validation, model, outcome.reason)


def _warn_of_base(workspace: Path, plan: Plan) -> None:
    """Say beforehand where another layer of the base knows more, or where it is known not to help."""
    if plan.base is not None:
        from attentive_lens.desk.tasks import carry_out  # only here: training begins sooner without

        probed = watched(carry_out(ProbeBase(str(workspace), plan.write(), quick=True)), "asking the base")
        if probed.best != probed.chosen:
            console.print(probed.advice)
        if probed.compared is not None and probed.compared.verdict == DOES_NOT:
            console.print(probed.compared.sentence)


def _end_within(seconds: float) -> None:
    """End this process by then whatever it waits for; what it keeps it keeps whole, so nothing is lost by that."""
    timer = Timer(seconds, os._exit, (130,))
    timer.daemon = True
    timer.start()


@contextmanager
def stopping() -> Iterator[list[int]]:
    """A list that gets an entry when somebody asks this process to stop; a second Ctrl+C ends it at once."""
    signals: list[int] = []

    def note(number: int, _frame: object) -> None:
        if signals:
            _end_within(LAST_SECONDS)
            raise KeyboardInterrupt
        signals.append(number)
        with suppress(OSError, ValueError):
            console.print("Stopping after this step …")

    before = {number: signal.signal(number, note) for number in STOPPING}
    try:
        yield signals
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
