"""The light half of the desk: what can be told or started without computing."""

from __future__ import annotations

import hashlib
import os
import subprocess
import sys
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import psutil
from numpy.typing import NDArray

from attentive_lens.errors import BadFile, BadValue
from attentive_lens.images.split import LEFT_OUT, SETS, groups_by_name, part
from attentive_lens.plan.network import NetworkPlan, working_memory
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.settings import OPTIMISER_ARRAYS
from attentive_lens.training.journal import read_events
from attentive_lens.workspace import Corrections, ImageRow, Run, Workspace
from attentive_lens.workspace.corrections import EXCLUDED, GONE, corrected

CHILD_NICENESS = 10


@dataclass(frozen=True)
class Collection:
    """The images of a workspace as a plan parts them.

    Attributes
    ----------
    classes : list of str
        Names by class number.
    rows : list of ImageRow
        By number, with people's corrections applied.
    sets : list of str
        "training", "validation" or "test" for each row; "left out", "excluded" or "gone" for those not used.
    skipped : list of (file, reason)
        Files that gave no image.
    """

    classes: list[str]
    rows: list[ImageRow]
    sets: list[str]
    skipped: list[tuple[str, str]]

    @cached_property
    def labels(self) -> NDArray[np.int64]:
        """Class numbers, N."""
        return np.array([row.label for row in self.rows], np.int64)

    @cached_property
    def counts(self) -> Counter[tuple[str, int]]:
        """Images by set and class number."""
        return Counter(zip(self.sets, (row.label for row in self.rows), strict=True))

    def count(self, set_name: str, label: int | None = None) -> int:
        """Images of a set, or of one class in it."""
        if label is not None:
            return self.counts[set_name, label]
        return sum(n for (own, _), n in self.counts.items() if own == set_name)

    @cached_property
    def totals(self) -> list[int]:
        """Images in use by class number."""
        return [sum(self.counts[name, k] for name in (*SETS, LEFT_OUT)) for k in range(len(self.classes))]

    @cached_property
    def fingerprint(self) -> str:
        """Changes when a label or a set does."""
        told = repr((self.classes, [row.label for row in self.rows], self.sets))
        return hashlib.sha256(told.encode("utf-8", "surrogateescape")).hexdigest()[:16]


@dataclass(frozen=True)
class Library:
    """The catalogue as its sources gave it, read once; `collection` adds decisions and a plan.

    Attributes
    ----------
    classes, rows, skipped
        As in `Collection`, without corrections.
    copies : dict
        Group number of images known to be copies, by image number.
    """

    classes: list[str]
    rows: list[ImageRow]
    skipped: list[tuple[str, str]]
    copies: dict[int, int]

    @classmethod
    def read(cls, workspace: Workspace) -> Library:
        """From the catalogue."""
        catalogue = workspace.catalogue
        return cls(catalogue.classes(), catalogue.images(), catalogue.skipped(), catalogue.copies())

    def collection(self, corrections: Corrections, plan: Plan) -> Collection:
        """With corrections, parted by a plan's split and seed."""
        rows = corrected(self.rows, corrections)
        return Collection(self.classes, rows, parted(rows, plan, self.copies), self.skipped)


def collection(workspace: Workspace, plan: Plan, run: Run | None = None) -> Collection:
    """The catalogue's images with people's corrections, parted by the plan's split and seed.

    With a run, the sets are those it was trained with, whatever was moved since; images it did not know are left out.
    """
    found = Library.read(workspace).collection(workspace.catalogue.corrections(), plan)
    noted = run.images() if run is not None else None
    if noted is None:
        return found
    known = noted[1][: len(found.rows)]
    thens = [*known, *[LEFT_OUT] * (len(found.rows) - len(known))]
    sets = [now if now in (EXCLUDED, GONE) else then for now, then in zip(found.sets, thens, strict=True)]
    return replace(found, sets=sets)


def parted(rows: list[ImageRow], plan: Plan, copies: Mapping[int, int]) -> list[str]:
    """The set of each row by the plan; copies are group numbers by image number."""
    groups: dict[int, int] = {}
    if plan.split.keep_together == "copies":
        groups = {number - 1: group for number, group in copies.items()}
    elif plan.split.keep_together == "same name" and plan.split.pattern:
        groups = groups_by_name([row.name for row in rows], plan.split.pattern)
    return part([row.label for row in rows], [row.given_set for row in rows], plan.split, plan.seed, groups)


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
        "training", "done", "stopped", "failed", or "broken off" when its process died.
    epochs : list of dict
        ``epoch`` events.
    batches : list of dict
        ``batch`` events.
    planned : int
        Epochs asked for.
    error : str
        The sentence of a failed run.
    started : float
        Seconds since 1970.
    loss_function : str
        What its losses are.
    """

    number: int
    name: str
    state: str
    epochs: list[dict[str, Any]]
    batches: list[dict[str, Any]]
    planned: int
    error: str = ""
    started: float = 0.0
    loss_function: str = ""

    @property
    def has_model(self) -> bool:
        """Whether an epoch was finished."""
        return bool(self.epochs)

    @property
    def best(self) -> dict[str, Any] | None:
        """The best epoch's event."""
        kept = [e for e in self.epochs if e.get("best")]
        return kept[-1] if kept else None

    @property
    def steps(self) -> tuple[int, int]:
        """Steps done and in all, as far as known."""
        per_epoch = 0
        if self.batches:
            last = self.batches[-1]
            per_epoch = int(last["of"]) // max(1, self.planned)
            done = max(int(last["step"]), len(self.epochs) * per_epoch)
            return done, int(last["of"])
        return len(self.epochs), self.planned


class RunReader:
    """Follows a run's journal; each `view` reads only what was added since."""

    def __init__(self, run: Run) -> None:
        self.run = run
        self._position = 0
        self._start: dict[str, Any] = {}
        self._epochs: list[dict[str, Any]] = []
        self._batches: list[dict[str, Any]] = []
        self._end: dict[str, Any] | None = None

    def view(self) -> RunView:
        """The run as it is now."""
        training = self.run.is_training()
        events, self._position = read_events(self.run.journal, self._position)
        for event in events:
            kind = event["event"]
            if kind == "start":
                self._start = event
            elif kind == "epoch":
                self._epochs.append(event)
            elif kind == "batch":
                self._batches.append(event)
            elif kind == "end":
                self._end = event
            elif kind == "resume":
                self._end = None
                spent = sum(own["seconds"] for own in self._epochs if own["epoch"] <= event["epoch"])
                self._start = {**self._start, "at": event["at"] - spent}
                self._epochs = [own for own in self._epochs if own["epoch"] <= event["epoch"]]
                self._batches = [own for own in self._batches if own["epoch"] <= event["epoch"]]
        # Who holds the run trains it, whatever was told of an earlier process; its last words come before it lets go.
        end = None if training else self._end
        state = "training" if training else str(end["state"]) if end else "broken off"
        return RunView(
            self.run.number,
            str(self._start.get("plan", "")),
            state,
            self._epochs,
            self._batches,
            int(self._start.get("epochs", 0)),
            str(end.get("error", "")) if end else "",
            float(self._start.get("at", 0.0)),
            str(self._start.get("loss_function", "")),
        )


def with_base(workspace: Workspace, plan: Plan, number: int, until: str, frozen: bool = True) -> Plan:
    """The plan built on an earlier run's layers: that run's network and preparation, new weights after ``until``."""
    earlier = workspace.run(number).plan()
    settings = {"base.run": number, "base.until": until, "base.frozen": frozen}
    name = f"{earlier.name.split(' on run ')[0]} on run {number}"
    return replace(plan, name=name, network=earlier.network, preparation=earlier.preparation).changed(settings)


def base_layers(plan: Plan) -> Sequence[str]:
    """Layers a later plan can take over: all before the answers."""
    return [node.name for node in plan.network.nodes[:-1]]


def facts_of(plan: Plan, classes: int) -> tuple[NetworkPlan, Any]:
    """The plan's network with an answer for each class, and its facts."""
    network = plan.network.for_classes(classes)
    return network, network.facts(plan.preparation.shape)


def price_in_memory(plan: Plan, classes: int) -> tuple[int, int]:
    """Bytes that a step of training needs, and bytes of memory that are free now."""
    _, facts = facts_of(plan, classes)
    needed = working_memory(facts, plan.training.batch, OPTIMISER_ARRAYS[plan.training.optimiser])
    return needed, int(psutil.virtual_memory().available)


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
    _start(workspace, run)
    return run


def resume_training(workspace: Workspace, number: int) -> Run:
    """Start the child process that goes on with an interrupted run.

    Raises
    ------
    BadValue
        If it is training, or ended by itself.
    """
    run = workspace.run(number)
    check_resumable(run)
    _start(workspace, run, "--go-on")
    return run


def check_resumable(run: Run) -> None:
    """Refuse a run that is training, or ended by itself; take back the word to stop."""
    view = RunReader(run).view()
    if view.state == "training":
        raise BadValue(f"Run {run.number} cannot go on", "it is training", "Wait for its end, or stop it")
    if not resumable(view) and run.trained() >= run.plan().training.epochs:
        raise BadValue(f"Run {run.number} cannot go on", "it trained all its epochs", "Start a new run")
    run.forget_stop()


def _start(workspace: Workspace, run: Run, *words: str) -> None:
    """Hold the run for the child: from now on it is training, until that process ends."""
    held = run.hold()
    command = [
        sys.executable,
        "-m",
        "attentive_lens",
        "train",
        str(workspace.folder.absolute()),
        "--claimed",
        str(run.number),
        "--lock",
        str(held),
        *words,
    ]
    try:
        with (run.folder / "log.txt").open("ab") as log:
            process = subprocess.Popen(
                command,
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
                start_new_session=True,
                preexec_fn=_lower_priority,
                pass_fds=(held,),
            )
    except OSError as error:
        raise BadFile("Training could not be started", str(error.strerror).lower(), "Try again") from None
    finally:
        os.close(held)
    _children.append(process)


_children: list[subprocess.Popen[bytes]] = []


def reap_children() -> int:
    """Take note of ended training children, so that none stays behind as a zombie; how many still work."""
    _children[:] = [child for child in _children if child.poll() is None]
    return len(_children)


def _lower_priority() -> None:
    os.nice(CHILD_NICENESS)
