"""What the window knows: the workspace, the plan being designed, the runs, and the worker that answers questions."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from attentive_lens.desk.browsing import Answers, pixels_of
from attentive_lens.desk.cautions import caution_of_labels, caution_of_test, changed_since, judged_by_test
from attentive_lens.desk.curating import Curating, act, relabel
from attentive_lens.desk.drafting import Draft
from attentive_lens.desk.front import (
    Collection,
    Library,
    RunReader,
    RunView,
    reap_children,
    resume_training,
    start_training,
)
from attentive_lens.errors import LensError
from attentive_lens.images.rows import Pixels, Rows
from attentive_lens.plan.plan import Plan, read_recipe
from attentive_lens.plan.settings import Preparation, Split
from attentive_lens.window.asking import Asker, Done, Failed
from attentive_lens.workspace import Correction, Workspace

TICK_MS, KEEP_MS = 400, 500


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
    pixels_ready, measures_ready
        The contact sheet's images are there; their brightness, contrast and sharpness.
    images_changed
        A label, set or flag was decided or undone.
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
    measures_ready = pyqtSignal()
    images_changed = pyqtSignal()
    scores_ready = pyqtSignal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.draft = Draft(workspace)
        self.library = Library.read(workspace)
        self.curating = Curating(workspace)
        self.collection: Collection = self.library.collection(self.curating.state, self.plan)
        self.pixels: Pixels | None = None
        self.measures: dict[str, NDArray[np.float32]] = {"pixels": pixels_of(self.collection)}
        self.readers: dict[int, RunReader] = {}
        self.views: dict[int, RunView] = {}
        self.run: int | None = None
        self.on = "validation"
        self.scores: dict[tuple[int, str], dict[str, Any]] = {}
        self.score_problem = ""
        self._scoring: set[tuple[int, str]] = set()
        self.asker = Asker()
        self.asker.worked.connect(self.worked)
        self.asker.failed.connect(lambda sentence: self.said.emit(sentence, True))
        self._keep_draft = QTimer(self)
        self._keep_draft.setSingleShot(True)
        self._keep_draft.timeout.connect(self.draft.keep)
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.tick)
        self._timer.start(TICK_MS)
        self._read_runs()
        finished = [n for n, v in self.views.items() if v.has_model]
        self.run = finished[-1] if finished else (max(self.views) if self.views else None)
        if self.training is not None:
            self.run = self.training.number

    @property
    def plan(self) -> Plan:
        """The plan being designed."""
        return self.draft.plan

    # The worker

    def start_worker(self) -> None:
        """Start the resident worker and ask it for the contact sheet's images."""
        self.asker.start()
        self.want_pixels()

    def ask(self, task: str, done: Done | None, failed: Failed | None = None, priority: int = 5, **args: Any) -> None:
        """Ask the worker about this workspace; ``failed`` gets a sentence, shown below if left out."""
        args = {"workspace": str(self.workspace.folder.absolute()), **args}
        self.asker.ask(task, done, failed, priority, **args)

    def want_pixels(self) -> None:
        """Have the contact sheet's images made or found; `pixels_ready` follows, then `measures_ready`."""
        self.ask("prepare", self._take_pixels, priority=1)
        self.ask("measures", self._take_measures, priority=7)

    def _take_pixels(self, values: dict[str, Any], arrays: dict[str, NDArray[Any]]) -> None:
        if "pixels" in arrays:
            self.pixels = arrays["pixels"]
        else:
            self.pixels = Rows(Path(values["file"]), missing=128)
        self.pixels_ready.emit()

    def _take_measures(self, _: dict[str, Any], arrays: dict[str, NDArray[Any]]) -> None:
        self.measures = {"pixels": pixels_of(self.collection), **arrays}
        self.measures_ready.emit()

    # Images

    def decide(self, told: str, numbers: Sequence[int], change: Callable[[Correction], Correction]) -> None:
        """Decide the same about some images; it can be undone."""
        try:
            self.curating.change(told, numbers, change)
        except LensError as error:
            self.said.emit(str(error), True)
            return
        self._decided(told)

    def relabel(self, told: str, numbers: Sequence[int], label: int) -> None:
        """Give some images another class; it can be undone."""
        try:
            relabel(self.curating, told, self.library.rows, numbers, label)
        except LensError as error:
            self.said.emit(str(error), True)
            return
        self._decided(told)

    def act(self, action: dict[str, Any]) -> None:
        """Do what a finding offers: decide about images, or add a step to the recipe."""
        try:
            if action["step"]:
                (step,) = read_recipe([action["step"]])
                others = tuple(own for own in self.plan.recipe if own.kind != step.kind)
                self.change_plan(self.plan.with_recipe((*others, step)))
                self.said.emit(f"«{step.kind}» is in the recipe now: training will {action['word']}.", False)
                return
            act(self.curating, action)
        except LensError as error:
            self.said.emit(str(error), True)
            return
        self._decided(str(action["word"]))

    def undo(self) -> None:
        """Take the last decision back."""
        self._step(self.curating.undo, "Taken back: {}.", "There is nothing to undo.")

    def redo(self) -> None:
        """Make the decision taken back again."""
        self._step(self.curating.redo, "Done again: {}.", "There is nothing to do again.")

    def _step(self, step: Callable[[], str], told: str, nothing: str) -> None:
        try:
            word = step()
        except LensError as error:
            self.said.emit(str(error), True)
            return
        if word:
            self._recollect()
        self.said.emit(told.format(word) if word else nothing, False)

    def _decided(self, told: str) -> None:
        self._recollect()
        self.said.emit(f"Done: {told}.", False)

    def _recollect(self) -> None:
        self.collection = self.library.collection(self.curating.state, self.plan)
        self.scores.clear()
        self.images_changed.emit()
        self.want_scores()

    def reread_copies(self) -> None:
        """The fault finder noted which images are copies: the split keeps them together now."""
        self.library = replace(self.library, copies=self.workspace.catalogue.copies())
        self._recollect()

    def reread(self) -> None:
        """Read the catalogue again: another process changed it."""
        self.library = Library.read(self.workspace)
        self.curating = Curating(self.workspace)
        self._recollect()

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

    @property
    def answers(self) -> Answers:
        """What the run in view said, on the sets it was scored on."""
        tables = [table for (run, _), table in self.scores.items() if run == self.run]
        return Answers({image: (said, p) for table in tables for image, said, _, p in table["answers"]})

    def cautions(self) -> list[str]:
        """What to know before trusting the scores in view: labels changed since, a test set used to choose by."""
        if self.run is None:
            return []
        found = [caution_of_labels(self.run, self.relabelled)]
        if self.on == "test":
            found.append(caution_of_test(judged_by_test(self.workspace)))
        return [sentence for sentence in found if sentence]

    @property
    def relabelled(self) -> list[int]:
        """Numbers of the images whose label is another than the run in view knew."""
        return [] if self.run is None else changed_since(self.workspace.run(self.run), self.collection)

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

    def _read_runs(self, again: int | None = None) -> None:
        for run in self.workspace.runs():
            reader = self.readers.setdefault(run.number, RunReader(run))
            known = self.views.get(run.number)
            if known is None or known.state == "training" or run.number == again:
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
            self.draft.plan = plan
            self._keep_draft.start(KEEP_MS)
            if parted:
                self.collection = self.library.collection(self.curating.state, plan)
            self.plan_changed.emit()

    def use_run_plan(self) -> None:
        """Design on from the plan of the run in view."""
        plan = self.run_plan()
        if plan is not None:
            self.change_plan(plan)
            self.said.emit(f"The plan of run {self.run} is the next run's now.", False)

    def change_split(self, split: Split) -> None:
        """Part the images otherwise."""
        self.change_plan(replace(self.plan, split=split))

    def change_preparation(self, preparation: Preparation) -> None:
        """Prepare the images otherwise; `BadValue` if the network does not fit them then."""
        self.change_plan(replace(self.plan, preparation=preparation))

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

    def resume(self) -> None:
        """Go on with the run in view, which was interrupted."""
        if self.run is None:
            return
        try:
            resume_training(self.workspace, self.run)
        except LensError as error:
            self.said.emit(str(error), True)
            return
        self._read_runs(again=self.run)
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
        """Keep the draft and end the worker; runs go on."""
        self._timer.stop()
        self._keep_draft.stop()
        self.draft.keep()
        self.asker.close()


def open_session(folder: Path) -> Session:
    """Open a workspace for the window."""
    return Session(Workspace.open(folder))
