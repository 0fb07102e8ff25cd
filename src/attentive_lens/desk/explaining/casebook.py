"""The case book as it is worked with: cases opened, evidence pinned, causes and notes, each step undone."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace

from attentive_lens.core.numbering import label_of
from attentive_lens.desk.history import History, Step, Timeline
from attentive_lens.desk.observing import Signal
from attentive_lens.errors import LensError
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.cases import Case, CaseBook, Evidence, read_cases, write_cases


class OpenCases:
    """A workspace's case book; every change is written at once, and stands in the timeline.

    Attributes
    ----------
    changed : Signal
        The book is another.
    message : Signal
        A sentence, and whether it is bad news.
    """

    def __init__(self, workspace: Workspace, timeline: Timeline | None = None) -> None:
        self.workspace, self._timeline = workspace, timeline or Timeline()
        self.changed, self.message = Signal(), Signal()
        self.history: History[CaseBook] = History(CaseBook())
        try:
            self.history = History(read_cases(workspace.folder))
            self.fault = ""
        except LensError as error:
            self.fault = str(error)

    @property
    def book(self) -> CaseBook:
        """As it is now."""
        return self.history.state

    def open_case(self, image: int, run: int, predicted: str, true: str) -> Case | None:
        """A case of an image; the one that it has, or a new one. None if it cannot be written."""
        known = self.book.of_image(image, label_of(run))
        if known is not None:
            return known
        case = Case(self.book.last + 1, image, run, predicted, true, time.time())
        return case if self._put(f"opening case {case.number}", self.book.with_case(case)) else None

    def change(self, case: Case, summary: str) -> bool:
        """Put a case in the place of the one of its number; whether that could be written."""
        if case == self.book.case(case.number):
            return True
        return self._put(summary, self.book.with_case(case))

    def pin(self, number: int, evidence: Evidence) -> bool:
        """Add evidence to a case; the same is not added twice."""
        case = self.book.case(number)
        if evidence in case.evidence:
            return True
        return self.change(replace(case, evidence=(*case.evidence, evidence)), f"pinning a {evidence.kind}")

    def unpin(self, number: int, place: int) -> bool:
        """Take evidence off a case, by its place."""
        case = self.book.case(number)
        left = tuple(each for k, each in enumerate(case.evidence) if k != place)
        return self.change(replace(case, evidence=left), "unpinning evidence")

    def delete(self, number: int) -> bool:
        """Take a case out of the book; it can be undone."""
        return self._put(f"deleting case {number}", self.book.without(number))

    def undo(self) -> str:
        """Take the last step back; what it was, or an empty word."""
        return self._step(self.history.before, self.history.undo)

    def redo(self) -> str:
        """Do again what was taken back."""
        return self._step(self.history.after, self.history.redo)

    def _step(self, state: CaseBook, step: Callable[[], str]) -> str:
        word = step() if self._write(state) else ""
        if word:
            self.changed.emit()
        return word

    def _put(self, summary: str, book: CaseBook) -> bool:
        if not self._write(book):
            return False
        self.history.add(summary, book)
        self._timeline.add(Step(summary, lambda: bool(self.undo()), lambda: bool(self.redo())))
        self.changed.emit()
        return True

    def _write(self, book: CaseBook) -> bool:
        try:
            if self.fault:
                raise self._refused()
            self.workspace.check_writable("The case book was not changed")
            write_cases(self.workspace.folder, book)
        except LensError as error:
            self.message.emit(str(error), True)
            return False
        return True

    def _refused(self) -> LensError:
        return LensError("The case book was not changed", f"it could not be read: {self.fault}", "Mend its file first")
