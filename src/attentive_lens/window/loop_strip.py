"""Once around the loop: a strip below the top one with its six steps, left and taken up at any time."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFrame, QPushButton

from attentive_lens.core.records import PlainTable
from attentive_lens.desk.loop import STEPS, done, heard, is_offered, next_step
from attentive_lens.window import look
from attentive_lens.window.parts.basics import OneLine, button, horizontal, label, vertical, view_button
from attentive_lens.window.session import Session

TITLE = "Once around the loop"
ONE_LINE, TALL = 36, 86
"""Pixels that the strip needs in a low window, and at most in a tall one."""


class LoopStrip(QFrame):
    """The steps, which of them were done, and what one asks for.

    Signals
    -------
    place_asked
        A stage, and a view of it or an empty word, where a step is done.
    shown
        It was shown or put away.

    Parameters
    ----------
    session : Session
        What is open.
    remembered : dict
        What `to_remember` gave when the workspace was open the last time; without it the strip is offered on a demo.
    """

    place_asked = pyqtSignal(str, str)
    shown = pyqtSignal()

    def __init__(self, session: Session, remembered: PlainTable) -> None:
        super().__init__()
        self.setObjectName("loop strip")
        self.setProperty("role", "panel")
        self._session = session
        known = remembered.get("done")
        self._remembered = {str(key) for key in known} if isinstance(known, list) else set()
        self._down = down = vertical(self, spacing=4)
        row = horizontal(spacing=4)
        self.title = label(f"{TITLE}\u2002", "", look.TEXT, True, "loop title")
        row.addWidget(self.title)
        self.steps: dict[str, QPushButton] = {}
        for number, (key, step) in enumerate(STEPS.items(), 1):
            self.steps[key] = view_button(
                "", f"step {key}", f"Step {number}: {step.sentence}", partial(self.show_step, key)
            )
            row.addWidget(self.steps[key])
        self.line = OneLine("step line", "faint")
        row.addWidget(self.line, 1)
        tip = "Bring up where this step is done."
        self.there = button("Show where", "show step", tip, self._show_where)
        row.addWidget(self.there)
        row.addSpacing(4)
        tip = "Put the steps away; the menu behind the workspace's name brings them back as they are."
        row.addWidget(button("Leave", "leave loop", tip, self.leave))
        down.addLayout(row)
        self.words = label("", "faint", name="step words")
        self.words.setWordWrap(True)
        down.addWidget(self.words)
        self.be_compact(False)
        for signal in (session.runs_changed, session.cases_changed, session.scores_ready):
            signal.connect(self.refresh)
        session.asker.answered.connect(self._hear)
        self.step = ""
        self.done: frozenset[str] = frozenset()
        shown = remembered.get("shown")
        several = session.images.collection.several
        self.setVisible(shown is True or (shown is None and not several and is_offered(session.workspace)))
        self.refresh()

    @property
    def to_remember(self) -> PlainTable:
        """How it stands, for the next opening."""
        return {"shown": not self.isHidden(), "done": sorted(self._remembered)}

    def take_up(self) -> None:
        """Show the steps, at the first that was not done."""
        self.step = ""
        self.show()
        self.refresh()
        self.shown.emit()

    def leave(self) -> None:
        """Put the steps away."""
        self.hide()
        self.shown.emit()

    def be_compact(self, compact: bool) -> None:
        """In a low window one line, with as much of the sentence as fits."""
        self._down.setContentsMargins(24, 3 if compact else 8, 16, 3 if compact else 8)
        self.title.setHidden(compact)
        self.words.setHidden(compact)
        self.line.setText(self.words.text() if compact else "")

    def show_step(self, key: str) -> None:
        """What a step asks for."""
        self.step = key
        self._show()

    def refresh(self) -> None:
        """Look anew which steps were done; whoever is at the first open one goes on with the next."""
        if self.isHidden():
            return
        session = self._session
        before = next_step(self.done)
        self.done = done(session.workspace, session.runs.views, session.cases.book, self._remembered)
        if self.step in ("", before):
            self.step = next_step(self.done)
        self._show()

    def _show(self) -> None:
        for number, (key, button_) in enumerate(self.steps.items(), 1):
            word = STEPS[key].word
            button_.setText(f"{'✓' if key in self.done else number} {word}")
            button_.setAccessibleName(f"step {number}, {word}{', done' if key in self.done else ''}")
            button_.setChecked(key == self.step)
        all_done = len(self.done) == len(STEPS)
        praise = "All six steps are done: that is the loop. " if all_done and self.step == next_step(self.done) else ""
        self.words.setText(praise + STEPS[self.step].sentence)
        self.line.setText(self.words.text() if self.words.isHidden() else "")

    def _show_where(self) -> None:
        step = STEPS[self.step]
        self.place_asked.emit(step.stage, step.view)

    def _hear(self, request: object, result: object) -> None:
        key = heard(request, result)
        if key and key not in self._remembered:
            self._remembered.add(key)
            self.refresh()
