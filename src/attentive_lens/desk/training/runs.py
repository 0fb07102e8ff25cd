"""Runs as their folders tell them: followed, started, resumed."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from attentive_lens.errors import BadFile, BadValue
from attentive_lens.plan.plan import Plan
from attentive_lens.training.journal import (
    BatchEvent,
    ContinueEvent,
    EndEvent,
    EpochEvent,
    InputEvent,
    PauseEvent,
    RateEvent,
    ResumeEvent,
    StartEvent,
    follow_events,
)
from attentive_lens.workspace import Run, Workspace
from attentive_lens.workspace.plan_files import write_plan

CHILD_NICENESS = 10
MOST_BATCHES = 16_384
"""Events within epochs that are kept of a run, however long it is."""


@dataclass(frozen=True)
class RunView:
    """A run as its folder tells it.

    Attributes
    ----------
    number : int
        From 1.
    name : str
        Its plan's name.
    state : str
        "waiting" in the queue, "training", "done", "stopped", "failed", or "broken off" when its process died.
    epochs : list of EpochEvent
        Those finished.
    batches : list of BatchEvent
        How training stood within them.
    planned : int
        Epochs asked for.
    error : str
        The sentence of a failed run.
    started : float
        Seconds since 1970.
    loss_function : str
        What its losses are.
    paused : bool
        Whether it waits for a word to go on.
    rates : list of RateEvent
        Learning rates that were set while it trained, each from a step on.
    reason : str
        By which rule it ended before its epochs were over.
    input : InputEvent or None
        Of the prepared images.
    """

    number: int
    name: str
    state: str
    epochs: list[EpochEvent]
    batches: list[BatchEvent]
    planned: int
    error: str = ""
    started: float = 0.0
    loss_function: str = ""
    paused: bool = False
    rates: list[RateEvent] = field(default_factory=list)
    reason: str = ""
    input: InputEvent | None = None

    @property
    def has_model(self) -> bool:
        """Whether an epoch was finished."""
        return bool(self.epochs)

    @property
    def draws(self) -> bool:
        """Whether it draws images, and answers no classes, as its epochs tell."""
        return bool(self.epochs) and self.epochs[0].training.accuracy is None

    @property
    def best(self) -> EpochEvent | None:
        """The best epoch."""
        bests = [epoch for epoch in self.epochs if epoch.best]
        return bests[-1] if bests else None

    @property
    def steps(self) -> tuple[int, int]:
        """Steps done and in all, as far as known."""
        if self.batches:
            last = self.batches[-1]
            return max(last.step, len(self.epochs) * self.per_epoch), last.of
        return len(self.epochs), self.planned

    @property
    def images_of_epoch(self) -> int:
        """Images that an epoch shows; 0 where that is not known."""
        return self.input.images if self.input is not None else 0

    @property
    def per_epoch(self) -> int:
        """Batches of an epoch, 1 where that is not known."""
        if self.input is not None and self.input.batches:
            return self.input.batches
        return max(1, self.batches[-1].of // max(1, self.planned)) if self.batches else 1

    @property
    def end_in_words(self) -> tuple[str, bool]:
        """How it ended, with its figure, and whether that is bad news."""
        if self.state == "failed":
            return self.error, True
        if self.best is not None and self.best.validation is not None:
            return f"Run {self.number} {self.state}: best validation {self.best.validation.named_in_words}", False
        return f"Run {self.number} {self.state}", self.state == "broken off"


class RunReader:
    """Follows a run's journal; each `view` reads only what was added since."""

    def __init__(self, run: Run) -> None:
        self.run = run
        self._position = 0
        self._start = StartEvent()
        self._epochs: list[EpochEvent] = []
        self._batches: list[BatchEvent] = []
        self._end: EndEvent | None = None
        self._paused = False
        self._input: InputEvent | None = None
        self._rates: dict[int, RateEvent] = {}

    def view(self) -> RunView:
        """The run as it is now."""
        training = self.run.is_training()
        events, self._position = follow_events(self.run.journal, self._position)
        for event in events:
            if isinstance(event, StartEvent):
                self._start = event
            elif isinstance(event, EpochEvent):
                self._epochs.append(event)
            elif isinstance(event, BatchEvent):
                self._batches.append(event)
                if len(self._batches) >= MOST_BATCHES:
                    self._batches = thinned(self._batches)
            elif isinstance(event, EndEvent):
                self._end = event
            elif isinstance(event, InputEvent):
                self._input = event
            elif isinstance(event, RateEvent):
                self._rates = {step: past for step, past in self._rates.items() if step < event.step}
                self._rates[event.step] = event
            elif isinstance(event, PauseEvent | ContinueEvent):
                self._paused = isinstance(event, PauseEvent)
            elif isinstance(event, ResumeEvent):
                self._end, self._paused = None, False
                self._epochs = [past for past in self._epochs if past.epoch <= event.epoch]
                self._batches = [past for past in self._batches if past.epoch <= event.epoch]
                self._start = replace(self._start, at=event.at - sum(past.seconds for past in self._epochs))
        # Who holds the run trains it, whatever was told of an earlier process; its last words come before it lets go.
        end = None if training else self._end
        waits = "waiting" if not self._start.epochs and self.run.is_waiting() else "broken off"
        state = "training" if training else end.state if end else waits
        return RunView(
            self.run.number,
            self._start.plan,
            state,
            self._epochs,
            self._batches,
            self._start.epochs,
            end.error if end else "",
            self._start.at,
            self._start.loss_function,
            self._paused and training,
            list(self._rates.values()),
            end.reason if end else "",
            self._input,
        )


def thinned(batches: list[BatchEvent]) -> list[BatchEvent]:
    """Half as many: of every two the later one, with the mean of their losses."""
    pairs = zip(batches[::2], batches[1::2], strict=False)
    merged = [replace(later, loss=(earlier.loss + later.loss) / 2) for earlier, later in pairs]
    return [*merged, *(batches[-1:] if len(batches) % 2 else [])]


def resumable(view: RunView) -> bool:
    """Whether a run was interrupted and can go on."""
    return view.state in ("stopped", "broken off", "failed")


def start_training(workspace: Workspace, plan: Plan) -> Run:
    """Claim a run and start the child process that executes it; it outlives this one.

    Raises
    ------
    BadFile
        If the workspace cannot be written.
    """
    run = workspace.claim_run(plan)
    start_claimed(workspace, run)
    return run


def start_claimed(workspace: Workspace, run: Run) -> None:
    """Start the child process that executes a claimed run."""
    _start(workspace, run)


def resume_training(workspace: Workspace, number: int) -> Run:
    """Start the child process that goes on with an interrupted run.

    Raises
    ------
    BadValue
        If it is training, or ended by itself.
    """
    workspace.check_writable()
    run = workspace.run(number)
    check_resumable(run)
    _start(workspace, run, "--go-on")
    return run


def check_resumable(run: Run) -> None:
    """Refuse a run that is training, or ended by itself; take back the word to stop."""
    view = RunReader(run).view()
    if view.state == "training":
        raise BadValue(f"Run {run.number} cannot go on", "it is training", "Wait for its end, or stop it")
    if view.state == "done" and view.reason:
        raise BadValue(f"Run {run.number} cannot go on", f"it ended as planned ({view.reason})", "Start a new run")
    if not resumable(view) and max(run.trained(), len(view.epochs)) >= run.plan().training.epochs:
        raise BadValue(f"Run {run.number} cannot go on", "it trained all its epochs", "Start a new run")
    run.forget_word()


def _start(workspace: Workspace, run: Run, *words: str) -> None:
    """Hold the run for the child: from now on it is training, until that process ends."""
    held = run.hold()
    try:
        claimed = ("--claimed", str(run.number), "--lock", str(held))
        _begin(workspace, "train", claimed + words, run.folder / "log.txt", (held,))
    finally:
        os.close(held)


def start_halving(workspace: Workspace, plan: Plan, over: Sequence[str]) -> None:
    """Start the process that carries out successive halving over settings with values, as `searching.read_axis` takes.

    Raises
    ------
    BadFile
        If the workspace cannot be written.
    """
    workspace.check_writable()
    file = workspace.folder / "runs" / "sweep.toml"
    file.parent.mkdir(exist_ok=True)
    write_plan(file, plan)
    words = [word for axis in over for word in ("--over", axis)]
    _begin(workspace, "sweep", ("--plan", str(file.absolute()), *words, "--halving"), file.with_suffix(".log"))


def _begin(workspace: Workspace, command: str, words: Sequence[str], log: Path, held: tuple[int, ...] = ()) -> None:
    """A process of its own with a lower priority, which outlives this one."""
    program = [sys.executable, "-m", "attentive_lens", command, str(workspace.folder.absolute()), *words]
    try:
        with log.open("ab") as result:
            process = subprocess.Popen(
                program,
                stdin=subprocess.DEVNULL,
                stdout=result,
                stderr=result,
                start_new_session=True,
                preexec_fn=_lower_priority,
                pass_fds=held,
            )
    except OSError as error:
        raise BadFile("Training could not be started", str(error.strerror).lower(), "Try again") from None
    _children.append(process)


_children: list[subprocess.Popen[bytes]] = []


def reap_children() -> int:
    """Take note of ended training children, so that none stays behind as a zombie; how many still work."""
    _children[:] = [child for child in _children if child.poll() is None]
    return len(_children)


def _lower_priority() -> None:
    os.nice(CHILD_NICENESS)
