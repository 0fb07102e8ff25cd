"""The runs of an open workspace: how each stands, which is in view, and starting, resuming and stopping them."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence

from attentive_lens.core.numbering import RunNumber
from attentive_lens.desk.history import Step, Timeline
from attentive_lens.desk.network.design import facts_of
from attentive_lens.desk.observing import Signal
from attentive_lens.desk.training.controlling import steer
from attentive_lens.desk.training.queue import enqueue, start_next, take_from_queue
from attentive_lens.desk.training.runs import (
    RunReader,
    RunView,
    reap_children,
    resume_training,
    start_halving,
    start_training,
)
from attentive_lens.errors import LensError
from attentive_lens.plan.examination import Facts
from attentive_lens.plan.labels import of_one
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.tasks import Classify, TaskSettings
from attentive_lens.training.film import Frame, frames, read_frame
from attentive_lens.training.last_batch import LastBatch, read_last_batch
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.about import About

UNSETTLED = ("waiting", "training", "broken off")
"""States that change without a word in the journal."""


class OpenRuns:
    """Follows the journals of all runs, whoever trains them.

    Attributes
    ----------
    current : int or None
        Number of the run in view.
    label : str
        Of a run in view that answers several labels, the one that is asked about; see `in_view`.
    changed : Signal
        A run was added, ended, or another is in view.
    message : Signal
        A sentence, and whether it is bad news.
    ended : Signal
        The same of a run that just ended.
    """

    def __init__(self, workspace: Workspace, timeline: Timeline | None = None) -> None:
        self.workspace, self._timeline = workspace, timeline or Timeline()
        self.changed, self.message, self.ended = Signal(), Signal(), Signal()
        self.views: dict[int, RunView] = {}
        self.label = ""
        self._readers: dict[int, RunReader] = {}
        self._sizes: dict[int, int] = {}
        self._images: dict[int, int] = {}
        self._plans: dict[int, Plan] = {}
        self._read()
        finished = [n for n, v in self.views.items() if v.has_model]
        self.current = finished[-1] if finished else (max(self.views) if self.views else None)
        if self.training is not None:
            self.current = self.training.number

    @property
    def view(self) -> RunView | None:
        """The run in view."""
        return self.views.get(self.current) if self.current is not None else None

    @property
    def training(self) -> RunView | None:
        """The run that is training now, if any."""
        return next((view for view in self.views.values() if view.state == "training"), None)

    def tick(self) -> None:
        """Read what the runs wrote since the last time; start the next of the queue if nobody else did."""
        reap_children()
        if self.training is None and any(view.state == "waiting" for view in self.views.values()):
            with contextlib.suppress(LensError):
                start_next(self.workspace)
        before = {n: (v.state, v.name) for n, v in self.views.items()}
        self._read()
        if before != {n: (v.state, v.name) for n, v in self.views.items()}:
            self.changed.emit()

    def _read(self) -> None:
        """A run that ended is read again when its journal grew, one that broke off always: somebody may resume it."""
        for run in self.workspace.runs():
            reader = self._readers.setdefault(run.number, RunReader(run))
            known, size = self.views.get(run.number), run.journal_size
            if known is None or known.state in UNSETTLED or size != self._sizes.get(run.number):
                self._sizes[run.number] = size
                view = self.views[run.number] = reader.view()
                if known is not None and known.state == "training" and view.state != "training":
                    self._tell_end(view)

    def _tell_end(self, view: RunView) -> None:
        sentence, bad = view.end_in_words
        self.message.emit(sentence, bad)
        self.ended.emit(sentence, bad)

    def choose(self, number: int) -> None:
        """Put another run in view."""
        if number != self.current and number in self.views:
            self.current = number
            self.changed.emit()

    def choose_label(self, label: str) -> None:
        """Ask the run in view about another of its labels."""
        if label in self.labels and label != self.asks_about:
            self.label = label
            self.changed.emit()

    @property
    def labels(self) -> tuple[str, ...]:
        """Of the run in view, where it answers several; none where it answers classes, or has not begun."""
        if self.current is None or not self.task.several:
            return ()
        return self.workspace.run(self.current).classes()

    @property
    def asks_about(self) -> str:
        """The label of the run in view that is asked about; empty where it answers classes."""
        labels = self.labels
        return "" if not labels else self.label if self.label in labels else labels[0]

    @property
    def in_view(self) -> int | None:
        """The run in view as it is asked: with the label, where it answers several."""
        if self.current is None or not self.asks_about:
            return self.current
        return RunNumber(self.current, self.asks_about)

    def plan(self) -> Plan | None:
        """The plan of the run in view."""
        if self.current is None:
            return None
        try:
            if self.current not in self._plans:
                self._plans[self.current] = self.workspace.run(self.current).plan()
            return self._plans[self.current]
        except LensError as error:
            self.message.emit(str(error), True)
            return None

    @property
    def draws(self) -> bool:
        """Whether the run in view draws images, and answers no classes."""
        return self.task.draws

    @property
    def task(self) -> TaskSettings:
        """What the network of the run in view is for; classes where its plan cannot be read, or no run is in view."""
        plan = self.plan()
        return Classify() if plan is None else plan.task

    def classes(self) -> tuple[str, ...]:
        """Classes of the run in view, as it was trained with them; those of the workspace before a run began."""
        own = self.workspace.run(self.current).classes() if self.current is not None else ()
        return own or tuple(self.workspace.catalogue.classes())

    def answered_classes(self) -> tuple[str, ...]:
        """Classes that answers of the run in view are about: two, where one of several labels is asked about."""
        return of_one(self.asks_about) if self.asks_about else self.classes()

    def facts(self) -> tuple[NetworkPlan, tuple[Facts, ...]] | None:
        """The network of the run in view with its output, and its facts; None where its plan cannot be read."""
        plan = self.plan()
        return None if plan is None else facts_of(plan, len(self.classes()))

    def training_images(self, number: int) -> int:
        """Training images of a run, as it noted them; 0 where it did not."""
        if number not in self._images:
            noted = self.workspace.run(number).images()
            if noted is None:
                return 0
            self._images[number] = noted[1].count("training")
        return self._images[number]

    def last_batch(self) -> LastBatch | None:
        """Some images of the last batch of the run in view, with what was said of them; None where there are none."""
        return read_last_batch(self.workspace.run(self.current).last_batch) if self.current is not None else None

    def film(self) -> list[int]:
        """Epochs of the run in view after which what it drew was kept."""
        view = self.view
        return frames(self.workspace.run(view.number).film, len(view.epochs)) if view is not None else []

    def frame(self, epoch: int) -> Frame | None:
        """What the run in view drew after an epoch; None where nothing was kept."""
        return read_frame(self.workspace.run(self.current).film, epoch) if self.current is not None else None

    def start(self, plan: Plan, price: float | None = None) -> None:
        """Train a plan, in a process of its own; ``price`` is what an epoch was said to take, in seconds."""
        try:
            run = start_training(self.workspace, plan)
            if price is not None:
                run.keep_price(price)
        except LensError as error:
            self.message.emit(str(error), True)
            return
        self.current = run.number
        self.tick()
        self.changed.emit()

    def enqueue(self, plan: Plan) -> None:
        """Let a plan wait for its turn."""
        try:
            run = enqueue(self.workspace, plan)
        except LensError as error:
            self.message.emit(str(error), True)
            return
        self.tick()
        self.changed.emit()
        self.message.emit(
            f"Run {run.number} waits in the queue and begins by itself, with or without this window.", False
        )

    def halve(self, plan: Plan, over: Sequence[str]) -> bool:
        """Begin successive halving over settings with values, in a process of its own; whether it was begun."""
        try:
            start_halving(self.workspace, plan, over)
        except LensError as error:
            self.message.emit(str(error), True)
            return False
        return True

    def delete(self, number: int) -> bool:
        """Put a run into the bin; whether it was."""
        done = self._delete(number)
        if done:
            step = Step(f"deleting run {number}", lambda: self._restore(number), lambda: self._delete(number))
            self._timeline.add(step)
            self.message.emit(f"Run {number} is in the bin.", False)
        return done

    def restore(self, number: int) -> bool:
        """Bring a run back out of the bin; whether it was."""
        done = self._restore(number)
        if done:
            step = Step(f"bringing run {number} back", lambda: self._delete(number), lambda: self._restore(number))
            self._timeline.add(step)
            self.message.emit(f"Run {number} is back.", False)
        return done

    def deleted(self) -> tuple[int, ...]:
        """Numbers of the runs in the bin."""
        return self.workspace.deleted_runs()

    def empty_bin(self) -> None:
        """Remove the deleted runs for good."""
        try:
            removed = self.workspace.forget_deleted()
        except LensError as error:
            self.message.emit(str(error), True)
        else:
            self.message.emit(f"{removed} deleted runs are gone for good.", False)

    def keep_about(self, number: int, about: About) -> None:
        """Keep what a person says of a run, unless it is kept already; it can be undone."""
        before = self.workspace.run(number).about()

        def keep(words: About) -> bool:
            try:
                self.workspace.run(number).keep_about(words)
            except LensError as error:
                self.message.emit(str(error), True)
                return False
            self.changed.emit()
            return True

        if about != before and keep(about):
            what = "name" if about.name != before.name else "note" if about.note != before.note else "pin"
            self._timeline.add(Step(f"the {what} of run {number}", lambda: keep(before), lambda: keep(about)))

    def _delete(self, number: int) -> bool:
        view = self.views.get(number)
        try:
            if view is not None and view.state == "waiting":
                take_from_queue(self.workspace, number)  # it may just be beginning
            else:
                self.workspace.delete_run(number)
        except LensError as error:
            self.message.emit(str(error), True)
            return False
        for known in (self.views, self._readers, self._sizes, self._images, self._plans):
            known.pop(number, None)
        if self.current == number:
            self.current = max(self.views, default=None)
        self.changed.emit()
        return True

    def _restore(self, number: int) -> bool:
        try:
            self.workspace.restore_run(number)
        except LensError as error:
            self.message.emit(str(error), True)
            return False
        self._read()
        self.changed.emit()
        return True

    def resume(self) -> None:
        """Go on with the run in view, which was interrupted."""
        if self.current is None:
            return
        try:
            resume_training(self.workspace, self.current)
        except LensError as error:
            self.message.emit(str(error), True)
            return
        self._sizes.pop(self.current, None)
        self._read()
        self.changed.emit()

    def steer(self, action: str, rate: float = 0.0) -> None:
        """Ask the training run for one of `ACTIONS`."""
        training = self.training
        if training is None:
            return
        try:
            self.message.emit(steer(self.workspace.run(training.number), action, rate), False)
        except LensError as error:
            self.message.emit(str(error), True)
