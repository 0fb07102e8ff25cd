"""What the window knows: the workspace, the plan being designed, the runs, and the worker that answers questions."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6 import sip
from PyQt6.QtCore import QObject, QSocketNotifier, QTimer, pyqtSignal

from attentive_lens.desk.front import (
    Collection,
    RunReader,
    RunView,
    collection,
    reap_children,
    start_training,
)
from attentive_lens.desk.resident import Reply, Resident
from attentive_lens.errors import LensError
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace

TICK_MS = 400

Done = Callable[[dict[str, Any], dict[str, NDArray[Any]]], None]
Failed = Callable[[str], None]


class Session(QObject):
    """An open workspace in the window.

    Signals
    -------
    runs_changed
        A run was added, ended, or another is in view.
    ticked
        The journals were read again; pages that follow a run repaint.
    explain_asked
        Somebody wants to know why of an image (its number).
    said
        A sentence for the bottom strip, and whether it is bad news.
    worked
        Background work: what, done, total; total 0 and done 0 when nothing is under way.
    pixels_ready
        The contact sheet's images are there.
    scores_ready
        The scores of the run in view on the set in view are there.
    """

    runs_changed = pyqtSignal()
    plan_changed = pyqtSignal()
    ticked = pyqtSignal()
    explain_asked = pyqtSignal(int)
    stage_asked = pyqtSignal(str)
    said = pyqtSignal(str, bool)
    worked = pyqtSignal(str, int, int)
    pixels_ready = pyqtSignal()
    scores_ready = pyqtSignal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.plan = Plan()
        self.collection: Collection = collection(workspace, self.plan)
        self.pixels: NDArray[np.uint8] | None = None
        self.readers: dict[int, RunReader] = {}
        self.views: dict[int, RunView] = {}
        self.run: int | None = None
        self.on = "test" if "test" in self.collection.sets else "validation"
        self.scores: dict[tuple[int, str], dict[str, Any]] = {}
        self.score_problem = ""
        self._scoring: set[tuple[int, str]] = set()
        self._resident: Resident | None = None
        self._notifier: QSocketNotifier | None = None
        self._asked: dict[int, tuple[Done | None, Failed | None]] = {}
        self._waiting: list[tuple[str, int, Done | None, Failed | None, dict[str, Any]]] = []
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.tick)
        self._timer.start(TICK_MS)
        self._read_runs()
        finished = [n for n, v in self.views.items() if v.has_model]
        self.run = finished[-1] if finished else (max(self.views) if self.views else None)
        if self.training is not None:
            self.run = self.training.number

    # The worker

    def start_worker(self) -> None:
        """Start the resident worker and ask it for the contact sheet's images."""
        if self._resident is not None:
            return
        self._resident = Resident()
        self._notifier = QSocketNotifier(sip.voidptr(self._resident.fileno()), QSocketNotifier.Type.Read, self)
        self._notifier.activated.connect(self._read_replies)
        self.ask("prepare", self._take_pixels, priority=1)
        for task, priority, done, failed, args in self._waiting:
            self._send(task, priority, done, failed, args)
        self._waiting.clear()

    def ask(self, task: str, done: Done | None, failed: Failed | None = None, priority: int = 5, **args: Any) -> None:
        """Ask the worker; ``done`` gets values and arrays, ``failed`` a sentence (shown below if left out)."""
        args = {"workspace": str(self.workspace.folder.absolute()), **args}
        if self._resident is None:
            self._waiting.append((task, priority, done, failed, args))
        else:
            self._send(task, priority, done, failed, args)

    def _send(self, task: str, priority: int, done: Done | None, failed: Failed | None, args: dict[str, Any]) -> None:
        if self._resident is not None:
            self._asked[self._resident.ask(task, priority, **args)] = (done, failed)

    def _read_replies(self) -> None:
        if self._resident is None:
            return
        for reply in self._resident.replies():
            self._take(reply)
        if self._resident.ended and self._notifier is not None:
            self._notifier.setEnabled(False)
            self._resident.close()
            self._resident, self._notifier = None, None
            lost, self._asked = self._asked, {}
            for _, failed in lost.values():
                if failed:
                    failed("The helper process ended. Ask again: it is started anew.")
            self.said.emit("The helper process ended and is started anew.", True)
            QTimer.singleShot(500, self.start_worker)

    def _take(self, reply: Reply) -> None:
        if reply.progress is not None:
            done, total, doing = reply.progress
            self.worked.emit(doing, done, total)
            return
        done_call, failed_call = self._asked.pop(reply.number, (None, None))
        if not self._asked:
            self.worked.emit("", 0, 0)
        if reply.error is not None:
            sentence = str(LensError(**reply.error))
            if failed_call:
                failed_call(sentence)
            else:
                self.said.emit(sentence, True)
        elif reply.values is not None and done_call:
            done_call(reply.values, reply.arrays)

    def _take_pixels(self, values: dict[str, Any], arrays: dict[str, NDArray[Any]]) -> None:
        if "pixels" in arrays:
            self.pixels = arrays["pixels"]
        else:
            self.pixels = np.load(values["file"], mmap_mode="r", allow_pickle=False)
        self.pixels_ready.emit()

    # Scores

    @property
    def score(self) -> dict[str, Any] | None:
        """Scores of the run in view on the set in view, if they are there; see `want_scores`."""
        return self.scores.get((self.run, self.on)) if self.run is not None else None

    def want_scores(self, on: str | None = None) -> None:
        """Have the run in view scored on a set, unless it is; `scores_ready` follows."""
        self.on = on or self.on
        self.score_problem = ""
        view = self.view
        if view is None or not view.has_model or view.state == "training":
            return
        key = (view.number, self.on)
        if key in self.scores:
            self.scores_ready.emit()
        elif key not in self._scoring:
            self._scoring.add(key)

            def done(values: dict[str, Any], _: dict[str, NDArray[Any]]) -> None:
                self._scoring.discard(key)
                self.scores[key] = values
                self.scores_ready.emit()

            def failed(sentence: str) -> None:
                self._scoring.discard(key)
                self.score_problem = sentence
                self.scores_ready.emit()

            self.ask("score", done, failed, priority=3, run=key[0], on=key[1])

    def mistakes(self) -> list[int]:
        """Numbers of the wrongly answered images of the run and set in view, the most confident first."""
        table = self.score
        if table is None:
            return []
        wrong = [(-p, image) for image, said, true, p in table["answers"] if said != true]
        return [image for _, image in sorted(wrong)]

    # Runs

    def tick(self) -> None:
        """Read what the runs wrote since the last time."""
        reap_children()
        before = {n: v.state for n, v in self.views.items()}
        self._read_runs()
        if before != {n: v.state for n, v in self.views.items()}:
            self.runs_changed.emit()
        self.ticked.emit()

    def _read_runs(self) -> None:
        for run in self.workspace.runs():
            reader = self.readers.setdefault(run.number, RunReader(run))
            known = self.views.get(run.number)
            if known is None or known.state == "training":
                self.views[run.number] = reader.view()
                ended = known is not None and self.views[run.number].state != "training"
                if ended:
                    self._tell_end(self.views[run.number])

    def _tell_end(self, view: RunView) -> None:
        if view.state == "failed":
            self.said.emit(view.error, True)
        elif view.best and view.best["validation"]:
            accuracy = view.best["validation"]["accuracy"]
            self.said.emit(f"Run {view.number} {view.state}: best validation accuracy {accuracy:.1%}", False)
        else:
            self.said.emit(f"Run {view.number} {view.state}", view.state == "broken off")

    @property
    def view(self) -> RunView | None:
        """The run in view."""
        return self.views.get(self.run) if self.run is not None else None

    @property
    def training(self) -> RunView | None:
        """The run that is training now, if any."""
        for view in self.views.values():
            if view.state == "training":
                return view
        return None

    def choose_run(self, number: int) -> None:
        """Put another run in view."""
        if number != self.run and number in self.views:
            self.run = number
            self.runs_changed.emit()

    def run_plan(self) -> Plan | None:
        """The plan of the run in view."""
        if self.run is None:
            return None
        try:
            return self.workspace.run(self.run).plan()
        except LensError as error:
            self.said.emit(str(error), True)
            return None

    def change_plan(self, plan: Plan) -> None:
        """Design another plan."""
        if plan != self.plan:
            parted = (plan.split, plan.seed) != (self.plan.split, self.plan.seed)
            self.plan = plan
            if parted:
                self.collection = collection(self.workspace, plan)
            self.plan_changed.emit()

    def start(self) -> None:
        """Train the plan being designed, in a process of its own."""
        try:
            run = start_training(self.workspace, self.plan)
        except LensError as error:
            self.said.emit(str(error), True)
            return
        self.run = run.number
        self.tick()
        self.runs_changed.emit()

    def stop(self) -> None:
        """Ask the training run to stop; it keeps everything."""
        training = self.training
        if training is not None:
            try:
                self.workspace.run(training.number).ask_to_stop()
            except LensError as error:
                self.said.emit(str(error), True)
            else:
                self.said.emit(f"Run {training.number} stops after the step it is in.", False)

    def close(self) -> None:
        """End the worker; runs go on."""
        self._timer.stop()
        if self._notifier is not None:
            self._notifier.setEnabled(False)
        if self._resident is not None:
            self._resident.close()
            self._resident = None


def open_session(folder: Path) -> Session:
    """Open a workspace for the window."""
    return Session(Workspace.open(folder))
