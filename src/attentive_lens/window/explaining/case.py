"""What is done about the image in view: its case, opened, told about, pinned to, closed; its label and set."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLineEdit, QPlainTextEdit, QScrollArea, QSizePolicy, QWidget

from attentive_lens.core.numbering import place_of
from attentive_lens.desk.requests.cases import CasesTried
from attentive_lens.desk.requests.explaining import Explanation
from attentive_lens.window import look
from attentive_lens.window.parts.basics import (
    OneLine,
    button,
    chooser,
    horizontal,
    label,
    retire,
    set_role,
    vertical,
)
from attentive_lens.window.parts.decisions import KEYS, Decisions
from attentive_lens.window.session import Session
from attentive_lens.workspace.cases import Case, Evidence

KEEP_MS = 600
"""Milliseconds after the last letter of a note until it is kept."""
LINE, SHOWN = 32, 2
"""Pixels of a line of evidence; lines that are seen at once."""
GOOD = ("fixed", "settled by its label")


class CasePanel(QWidget):
    """What is known of the image's case.

    Signals
    -------
    pin_asked
        The maps in view are to be pinned.
    book_asked
        The case book is to be shown.
    shown_again
        Evidence that is to be seen as it was pinned.
    """

    pin_asked = pyqtSignal()
    book_asked = pyqtSignal()
    shown_again = pyqtSignal(object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.explanation: Explanation | None = None
        self.tried: CasesTried | None = None
        self._lines: list[QWidget] = []
        self._filled: tuple[object, ...] = ()
        inside = vertical(self, spacing=6)
        row = horizontal(spacing=8)
        self.title = label("Case", strong=True, name="case title")
        row.addWidget(self.title)
        self.status = OneLine("case status", "faint", look.SMALL)
        row.addWidget(self.status, 1)
        tip = "Give the image another label or set, exclude it or flag it (L S X F)."
        self.decide = button("Label, exclude …", "decide about explained", tip, self._fold, checkable=True)
        row.addWidget(self.decide)
        tip = "Keep this image in the case book: evidence, cause and note, tried again by every later run (C)."
        self.open = button("Open a case (C)", "open case", tip, self.open_case)
        row.addWidget(self.open)
        tip = "Show or hide the case's cause, note, remedy and evidence."
        self.unfold = button("Details", "case details", tip, self._fold, checkable=True)
        self.unfold.setChecked(True)
        row.addWidget(self.unfold)
        tip = "All cases, and what became of them."
        self.book = button("Case book", "case book", tip, self.book_asked.emit)
        row.addWidget(self.book)
        inside.addLayout(row)
        self.decisions = Decisions(session, 4, " of explained")
        inside.addWidget(self.decisions)
        self.fields_box = QWidget()
        grid = QGridLayout(self.fields_box)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(6)
        self.cause = chooser(
            "case cause", "cause", "What the wrong answer comes from; type another to add it to the list."
        )
        self.cause.setEditable(True)
        self.cause.setFont(look.font())
        self.cause.activated.connect(lambda _: self._keep())
        line = self.cause.lineEdit()
        if line is not None:
            line.setPlaceholderText("cause")
            line.editingFinished.connect(self._keep)
        grid.addWidget(self.cause, 0, 0)
        self.note = QPlainTextEdit()
        self.note.setProperty("role", "note")
        self.note.setObjectName("case note")
        self.note.setAccessibleName("note")
        self.note.setPlaceholderText("note")
        self.note.setFont(look.font())
        self.note.setTabChangesFocus(True)
        grid.addWidget(self.note, 0, 1, 2, 1)
        self.remedy = QLineEdit()
        self.remedy.setObjectName("case remedy")
        self.remedy.setAccessibleName("remedy")
        self.remedy.setPlaceholderText("remedy: what is done about it")
        self.remedy.setFont(look.font())
        self.remedy.editingFinished.connect(self._keep)
        grid.addWidget(self.remedy, 1, 0)
        grid.setColumnStretch(0, 1)
        grid.setColumnStretch(1, 1)
        lines = QWidget()
        self.evidence = vertical(lines, spacing=2)
        self.evidence.addStretch()
        self.pinned = QScrollArea()
        self.pinned.setWidgetResizable(True)
        self.pinned.setWidget(lines)
        grid.addWidget(self.pinned, 2, 0, 1, 2)
        row = horizontal(spacing=8)
        tip = "Keep the maps in view, and how they were made, with the case."
        self.pin = button("Pin this map", "pin map", tip, self.pin_asked.emit)
        row.addWidget(self.pin)
        self.close_button = button("Close case", "close case", "Done with it; it stays in the book.", self._close)
        row.addWidget(self.close_button)
        row.addStretch()
        grid.addLayout(row, 3, 0, 1, 2)
        inside.addWidget(self.fields_box)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.timeout.connect(self._keep)
        self.note.textChanged.connect(lambda: self._later.start(KEEP_MS))
        session.cases_changed.connect(self.refresh)
        session.images_changed.connect(self._show_decisions)
        self.refresh()

    @property
    def case(self) -> Case | None:
        """The case of the image in view."""
        number = self.explanation.image if self.explanation is not None else None
        return self.session.cases.book.of_image(number, self.session.runs.asks_about) if number is not None else None

    def show_explanation(self, explanation: Explanation) -> None:
        """Another image; what was typed for the one before is kept first."""
        if self._later.isActive():
            self._keep()
        self.explanation = explanation
        self.refresh()

    def show_tried(self, tried: CasesTried) -> None:
        """What became of all cases."""
        self.tried = tried
        self.refresh()

    def open_case(self) -> None:
        """Open a case of the image in view."""
        shown = self.explanation
        if shown is not None and shown.image is not None and shown.true is not None:
            self.unfold.setChecked(True)
            self.session.cases.open_case(shown.image, shown.subject.run, shown.predicted, shown.true)

    def take_key(self, event: QKeyEvent) -> bool:
        """Decide about the image by a key of its own; whether it was one."""
        if event.text().upper() in KEYS.values() and self.decide.isVisible():
            self.decide.setChecked(True)
            self._fold()
            return self.decisions.take_key(event)
        return False

    def _show_decisions(self) -> None:
        """What can be decided about the image, as it stands."""
        number = self.explanation.image if self.explanation is not None else None
        known = number is not None and number <= len(self.session.images.collection.rows)
        self.decisions.show_images((place_of(number),) if number is not None and known else ())
        self.decide.setVisible(known and not self.session.reading_only)
        self._fold()

    def _fold(self) -> None:
        self.decisions.setVisible(self.decide.isChecked() and bool(self.decisions.places))
        self.fields_box.setVisible(self.case is not None and self.unfold.isChecked())

    def add(self, kind: str, words: str, settings: dict[str, object]) -> None:
        """Pin evidence, opening the case if there is none."""
        if self.case is None:
            self.open_case()
        case = self.case
        if case is None and self.explanation is not None and not self.session.reading_only:
            sentence = "Only images of the workspace that have a label can have a case: add this one first."
            self.session.message.emit(sentence, True)
        shown = self.explanation
        if case is None or shown is None:
            return
        if self.session.cases.pin(case.number, Evidence(kind, words, shown.subject.run, settings)):
            self.session.message.emit(f"Pinned to case {case.number}: {words}.", False)

    def note_down(self, words: str) -> None:
        """Add a line to the case's note, opening the case if there is none."""
        if self.case is None:
            self.open_case()
        case = self.case
        if case is not None:
            note = "\n".join(filter(None, (case.note, words)))
            self.session.cases.change(replace(case, note=note), f"noting in case {case.number}")
            self.session.message.emit(f"Noted in case {case.number}: {words}.", False)

    def take_remedy(self, words: str, images: list[int]) -> None:
        """What is done about a group of mistakes stands with the cases of its images that have no remedy yet."""
        for image in images:
            case = self.session.cases.book.of_image(image, self.session.runs.asks_about)
            if case is not None and not case.remedy:
                self.session.cases.change(replace(case, remedy=words.lower()), f"a remedy for case {case.number}")

    def refresh(self) -> None:
        """Show the case as it stands."""
        case = self.case
        shown = self.explanation
        can = shown is not None and shown.image is not None and not self.session.reading_only
        self.open.setVisible(case is None)
        self.open.setEnabled(can)
        self.unfold.setVisible(case is not None)
        self._show_decisions()
        count = sum(not each.closed for each in self.session.cases.book.cases)
        self.book.setText(f"Case book · {count} open" if count else "Case book")
        for line in self._lines:
            retire(line)
        self._lines = []
        if case is None:
            self.title.setText("Case")
            why_not = (
                "This workspace can only be read: no case can be opened in it."
                if self.session.reading_only
                else "A new image has no case: add it to the workspace with its class first (Results, New images)."
                if shown is not None and shown.image is None
                else "No case of this image yet."
            )
            set_role(self.status, "faint")
            self.status.setText(self.session.cases.fault or why_not)
            return
        state = "closed" if case.closed else "open"
        self.title.setText(f"Case {case.number} · {state} · of run {case.run}")
        self._show_status(case)
        self._fill(case)
        self.close_button.setText("Reopen case" if case.closed else "Close case")
        for place, each in enumerate(case.evidence):
            self._add_line(case, place, each)
        self.pinned.setVisible(bool(case.evidence))
        self.pinned.setFixedHeight(LINE * min(SHOWN, len(case.evidence)) + 2)

    def _fill(self, case: Case) -> None:
        """The fields as the book has them, but for what is just being typed."""
        fields_box = (case.number, case.cause, case.note, case.remedy)
        if fields_box == self._filled or (self._later.isActive() and self._filled[:1] == fields_box[:1]):
            return
        self._filled = fields_box
        for widget in (self.note, self.remedy, self.cause):
            widget.blockSignals(True)
        self.note.setPlainText(case.note)
        self.remedy.setText(case.remedy)
        self.cause.clear()
        self.cause.addItems(["", *self.session.cases.book.causes])
        self.cause.setCurrentText(case.cause)
        for widget in (self.note, self.remedy, self.cause):
            widget.blockSignals(False)

    def _show_status(self, case: Case) -> None:
        tried = {each.case.number: each for each in self.tried.cases} if self.tried is not None else {}
        result = tried.get(case.number)
        self.status.setText(f"{result.status}: {result.words}" if result is not None else "Not tried again yet.")
        good = result is not None and result.status in GOOD
        bad = result is not None and result.status in ("still wrong", "newly broken")
        set_role(self.status, "good" if good else "bad" if bad else "faint")

    def _add_line(self, case: Case, place: int, evidence: Evidence) -> None:
        line = QWidget()
        row = QHBoxLayout(line)
        row.setContentsMargins(0, 0, 0, 0)
        again = partial(self.shown_again.emit, evidence)
        see = button("Show", f"show evidence {place}", f"See it again: {evidence.words}.", again)
        row.addWidget(see, 0, Qt.AlignmentFlag.AlignTop)
        words = label(f"{evidence.kind}: {evidence.words}", "faint", look.SMALL)
        words.setToolTip(evidence.words)
        words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        row.addWidget(words, 1)
        off = partial(self.session.cases.unpin, case.number, place)
        row.addWidget(button("×", f"unpin {place}", "Take this off the case.", off))
        self.evidence.insertWidget(place, line)
        self._lines.append(line)

    def _keep(self) -> None:
        self._later.stop()
        case = self.case
        if case is not None:
            fields_box = replace(
                case,
                cause=self.cause.currentText().strip(),
                note=self.note.toPlainText(),
                remedy=self.remedy.text().strip(),
            )
            self._filled = (case.number, fields_box.cause, fields_box.note, fields_box.remedy)
            self.session.cases.change(fields_box, f"telling about case {case.number}")

    def _close(self) -> None:
        case = self.case
        if case is not None:
            word = "reopening" if case.closed else "closing"
            self.session.cases.change(replace(case, closed=not case.closed), f"{word} case {case.number}")
