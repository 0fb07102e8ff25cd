"""What the window has open: parts of the desk, each owning one thing, and Qt's signals for what they tell."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from attentive_lens.desk.explaining.casebook import OpenCases
from attentive_lens.desk.history import Timeline
from attentive_lens.desk.images.state import OpenImages
from attentive_lens.desk.images.together import what_moves
from attentive_lens.desk.network.design import Design
from attentive_lens.desk.remembering import recall
from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.images import FaultAction
from attentive_lens.desk.results.state import OpenScores
from attentive_lens.desk.shelf.state import OpenShelf
from attentive_lens.desk.training.state import OpenRuns
from attentive_lens.errors import LensError
from attentive_lens.images.display import Display, read_display, show_as, shown_as, write_display
from attentive_lens.plan.plan import read_augmentation
from attentive_lens.window.asking import Asker, Failed
from attentive_lens.window.pricing import Pricing
from attentive_lens.workspace import Workspace

TICK_MS, KEEP_MS = 400, 500

R = TypeVar("R")


class Session(QObject):
    """An open workspace in the window.

    Attributes
    ----------
    images : OpenImages
        Rows, pixels, measures, decisions.
    runs : OpenRuns
        How each stands, which is in view.
    scores : OpenScores
        Of the run in view.
    cases : OpenCases
        The case book.
    shelf : OpenShelf
        Models to build on and hand on.
    design : Design
        The plan of the next run.
    pricing : Pricing
        What an epoch of the plan being designed takes here.
    widths : dict of str
        Pixels of the evidence's column, by stage.
    timeline : Timeline
        What was done in this window, which is what can be undone.
    reading_only : bool
        Whether nothing can be changed: its folder cannot be written, or another window has it open.

    Signals
    -------
    runs_changed
        A run was added, ended, or another is in view.
    plan_changed
        The plan being designed is another.
    split_changed
        It puts images into other sets; comes before ``plan_changed``.
    ticked
        The journals were read again; pages that follow a run repaint.
    explain_asked
        Somebody wants to know why of an image (its number).
    why_asked
        Likewise by a key: E to explain it, C to open a case of it besides, N to see those most alike.
    walk_asked
        Numbers of images that are to be walked through in Explain, chosen elsewhere.
    file_asked
        Likewise of an image file that no workspace knows, with the class that its answer is set against.
    stage_asked
        Somebody wants to see another stage.
    message
        A sentence for the bottom strip, and whether it is bad news.
    worked
        Background work: what, done, total; total 0 and done 0 when nothing is under way.
    pixels_ready, measures_ready
        The contact sheet's images are there; their brightness, contrast and sharpness.
    images_changed
        A label, set or flag was decided or undone.
    scores_ready
        The scores of the run in view on the set in view are there.
    cases_changed
        The case book is another.
    display_changed
        Images of many bits or channels are shown otherwise.
    shelf_changed
        Other models stand on the Shelf, or other things are said of them.
    history_changed
        Another thing would be undone now.
    """

    runs_changed = pyqtSignal()
    plan_changed = pyqtSignal()
    split_changed = pyqtSignal()
    ticked = pyqtSignal()
    explain_asked = pyqtSignal(int)
    why_asked = pyqtSignal(int, str)
    walk_asked = pyqtSignal(list)
    file_asked = pyqtSignal(str, str)
    stage_asked = pyqtSignal(str)
    message = pyqtSignal(str, bool)
    worked = pyqtSignal(str, int, int)
    pixels_ready = pyqtSignal()
    measures_ready = pyqtSignal()
    images_changed = pyqtSignal()
    scores_ready = pyqtSignal()
    cases_changed = pyqtSignal()
    display_changed = pyqtSignal()
    shelf_changed = pyqtSignal()
    history_changed = pyqtSignal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace, self._held = workspace.for_window()
        self.reading_only = self._held is None
        workspace = self.workspace
        self.timeline = Timeline()
        widths = recall(workspace.folder).get("widths")
        self.widths = {
            key: width for key, width in (widths if isinstance(widths, dict) else {}).items() if isinstance(width, int)
        }
        self.asker = Asker()
        self.design = Design(workspace, self._learned, self.timeline)
        self.images = OpenImages(workspace, lambda: self.design.plan, self.asker, self.timeline)
        show_as(read_display(workspace.folder))
        self.design.restore()
        self.pricing = Pricing(self.design, self.asker, self.place, lambda: self.runs.training is not None)
        self.runs = OpenRuns(workspace, self.timeline)
        self.scores = OpenScores(self.images, self.runs, self.asker)
        self.cases = OpenCases(workspace, self.timeline)
        self.shelf = OpenShelf(workspace, self.asker, self.timeline)
        self.asker.worked.connect(self.worked)
        self.asker.failed.connect(lambda sentence: self.message.emit(sentence, True))
        self._keep_draft = QTimer(self)
        self._keep_draft.setSingleShot(True)
        self._keep_draft.timeout.connect(self.design.keep)
        self._keep_display = QTimer(self)
        self._keep_display.setSingleShot(True)
        self._keep_display.timeout.connect(self._write_display)
        self.design.split_changed.connect(self.images.split)
        self.design.changed.connect(lambda: self._keep_draft.start(KEEP_MS))
        self.design.changed.connect(self._price)
        for signal, passed_on in (
            (self.design.split_changed, self.split_changed),
            (self.design.changed, self.plan_changed),
            (self.images.changed, self.images_changed),
            (self.images.pixels_ready, self.pixels_ready),
            (self.images.measures_ready, self.measures_ready),
            (self.images.message, self.message),
            (self.runs.changed, self.runs_changed),
            (self.runs.message, self.message),
            (self.scores.ready, self.scores_ready),
            (self.cases.changed, self.cases_changed),
            (self.cases.message, self.message),
            (self.shelf.changed, self.shelf_changed),
            (self.shelf.message, self.message),
            (self.timeline.changed, self.history_changed),
        ):
            signal.connect(passed_on.emit)
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.tick)
        self._timer.start(TICK_MS)

    @property
    def place(self) -> str:
        """The workspace's folder, as requests name it."""
        return str(self.workspace.folder.absolute())

    def _learned(self) -> int:
        """Classes, or labels, that the plan in design has units for."""
        return len(self.images.collection.learned(self.design.plan.task))

    def start_worker(self) -> None:
        """Start the resident worker and ask it for the contact sheet's images and the models of the Shelf."""
        self.asker.start()
        self.images.want_pixels()
        self.shelf.want()

    def ask(
        self,
        request: Request[R],
        done: Callable[[R], None] | None,
        failed: Failed | None = None,
        priority: int = 5,
        scope: str = "",
    ) -> None:
        """Ask the worker; ``failed`` gets a sentence, shown below if left out. See `Asker.ask`."""
        self.asker.ask(request, done, failed, priority, scope)

    def tick(self) -> None:
        """Read what the runs wrote since the last time."""
        self.runs.tick()
        self.ticked.emit()

    def act(self, action: FaultAction) -> None:
        """Do what a fault offers: decide about images, change the split, or add a step to the augmentation."""
        if action.together:
            self.images.keep_together(action.together)
            return
        if action.settings:
            before = self.images.collection
            split = self.design.plan.split
            self.design.change(self.design.plan.changed(action.settings))
            moved = what_moves(before, self.images.collection, self.design.plan)
            sentence = moved if self.design.plan.split != split else f"The next run will {action.word}"
            self.message.emit(f"{sentence}.", False)
            return
        if action.step is None:
            self.images.act(action)
            return
        try:
            (step,) = read_augmentation([action.step])
            others = tuple(other for other in self.design.plan.augmentation if other.kind != step.kind)
            self.design.change(self.design.plan.with_augmentation((*others, step)))
        except LensError as error:
            self.message.emit(str(error), True)
        else:
            self.message.emit(f"«{step.kind}» is in the augmentation now: training will {action.word}.", False)

    def show_images_as(self, display: Display) -> None:
        """Show images of many bits or channels otherwise, in all views; it is kept with the workspace."""
        if display != shown_as():
            show_as(display)
            self._keep_display.start(KEEP_MS)
            self.display_changed.emit()

    def _write_display(self) -> None:
        with contextlib.suppress(LensError):  # a folder that cannot be written is no reason not to look
            write_display(self.workspace.folder, shown_as())

    def use_run_plan(self) -> None:
        """Design on from the plan of the run in view."""
        plan = self.runs.plan()
        if plan is not None:
            self.design.change(plan, f"taking the plan of run {self.runs.current}")
            self.message.emit(f"The plan of run {self.runs.current} is the next run's now.", False)

    def _price(self) -> None:
        """Price the plan anew while somebody designs: not before the price of one was first wanted."""
        if self.pricing.wanted:
            self.pricing.want()

    def enqueue(self) -> None:
        """Let the plan being designed wait for its turn; not while there is a fault in it."""
        if self._is_sound():
            self.runs.enqueue(self.design.plan)

    def _is_sound(self) -> bool:
        """Whether the plan being designed can train; if not, it is said why."""
        errors = [*(fault.error for fault in self.design.text_faults), *(fault.error for fault in self.design.faults)]
        if errors:
            self.message.emit(f"Not started, for the network on the bench has a fault. {errors[0]}", True)
        return not errors

    def start(self) -> None:
        """Train the plan being designed, in a process of its own; not while there is a fault in it."""
        if not self._is_sound():
            return
        price = self.pricing.known(self.design.plan)
        self.runs.start(self.design.plan, price.epoch_seconds if price is not None else None)

    def step_back(self, forward: bool = False) -> None:
        """Take back what was done last in this window, or do again what was taken back, wherever that was."""
        nothing = self.timeline.next if forward else self.timeline.last
        summary = self.timeline.redo() if forward else self.timeline.undo()
        if summary:
            self.message.emit(f"{'Done again' if forward else 'Taken back'}: {summary}.", False)
        elif not nothing:
            self.message.emit(f"There is nothing to {'do again' if forward else 'undo'}.", False)

    def close(self) -> None:
        """Keep the draft and end the worker; runs go on."""
        self._timer.stop()
        self._keep_draft.stop()
        self.pricing.stop()
        self.design.keep()
        self.asker.close()
        if self._held is not None:
            os.close(self._held)
            self._held = None


def open_session(folder: Path) -> Session:
    """Open a workspace for the window."""
    return Session(Workspace.open(folder))
