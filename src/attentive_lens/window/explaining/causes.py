"""What the mistakes in view have in common, as groups that can be walked through, each with its remedy."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import QPushButton, QScrollArea, QVBoxLayout, QWidget

from attentive_lens.desk.requests.causes import Cause, Causes, CausesFound
from attentive_lens.plan.plan import Plan
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, label, set_role
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands

WIDEST = 320
"""Pixels of a group's words: a folder's name may be long."""
LAID_OUT = 100
"""Milliseconds after which words of several lines have their height."""


class CausesPanel(QWidget):
    """A button that has the mistakes grouped, the groups, and what to do about the chosen one.

    Signals
    -------
    chosen
        Numbers of a group's images, the most typical first; empty for all mistakes.
    """

    chosen = pyqtSignal(list)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.groups: tuple[Cause, ...] = ()
        self.current: int | None = None
        self._for: tuple[int | None, str] = (None, "")
        self.inside = QVBoxLayout(self)
        self.inside.setContentsMargins(0, 0, 0, 0)
        self.inside.setSpacing(4)
        self.inside.addWidget(label("What do the mistakes share?", strong=True))
        self.ask = button(
            "Find common causes", "find causes", "Put mistakes that rest on the same thing together.", self._ask
        )
        self.inside.addWidget(self.ask)
        self.note = label(role="faint", size=look.SMALL, name="causes note")
        self.note.setWordWrap(True)
        self.note.hide()
        self.rows: list[QPushButton] = []
        self.inside.addWidget(self.note)
        self.use = button("Use its plan", "use remedy", "Brings the plan to the Training stage.", self._use)
        self.use.hide()
        self.inside.addWidget(self.use)

    def check(self) -> None:
        """Forget groups of another run or set."""
        if self._for != (self.session.runs.current, self.session.scores.on):
            self._show(())

    def _ask(self) -> None:
        self._for = (self.session.runs.current, self.session.scores.on)
        self.ask.setEnabled(False)
        self.note.setText("Explaining every mistake …")
        self.note.show()
        if self.session.runs.current is not None:
            request = Causes(self.session.place, self.session.runs.current, self.session.scores.on)
            self.session.ask(request, self._take, self._failed, priority=6, scope="causes")

    def _take(self, causes: CausesFound) -> None:
        if (causes.run, causes.on) == (self.session.runs.current, self.session.scores.on):
            self._for = (causes.run, causes.on)
            self._show(causes.groups)

    def _failed(self, sentence: str) -> None:
        self.ask.setEnabled(True)
        self.note.setText(sentence)
        self.note.show()

    def _show(self, groups: tuple[Cause, ...]) -> None:
        self.groups, self.current = groups, None
        for row in self.rows:
            row.deleteLater()
        self.rows = []
        for number, group in enumerate(groups):
            words = f"{thousands(len(group.images))} {group.short}"
            row = button(words, f"cause {number}", group.why, partial(self._choose, number), True)
            row.setText(row.fontMetrics().elidedText(words, Qt.TextElideMode.ElideMiddle, WIDEST))
            set_role(row, "row")
            self.inside.insertWidget(1 + number, row)
            self.rows.append(row)
        self._put_note_after(len(groups))
        self.ask.setEnabled(True)
        self.ask.setVisible(not groups)
        self.note.setVisible(bool(groups))
        self.note.setText("Choose a group to walk through it." if groups else "")
        self.use.hide()

    def _choose(self, number: int) -> None:
        self.current = None if self.current == number else number
        for k, row in enumerate(self.rows):
            row.setChecked(k == self.current)
        if self.current is None:
            self.note.setText("Choose a group to walk through it.")
            self.use.hide()
            self.chosen.emit([])
            return
        group = self.groups[number]
        self._put_note_after(number)
        self.note.setText(f"{group.why}. {group.remedy}.")
        self.use.setVisible(group.plan is not None)
        self.chosen.emit(list(group.images))
        QTimer.singleShot(LAID_OUT, self._show_note)

    def _put_note_after(self, number: int) -> None:
        """What is said of a group stands under it, however many there are."""
        for part in (self.note, self.use):
            self.inside.removeWidget(part)
        self.inside.insertWidget(2 + number, self.note)
        self.inside.insertWidget(3 + number, self.use)

    def _show_note(self) -> None:
        area = self.parentWidget()
        while area is not None and not isinstance(area, QScrollArea):
            area = area.parentWidget()
        if area is not None:
            area.ensureWidgetVisible(self.use if self.use.isVisible() else self.note, 0, 12)

    def _use(self) -> None:
        plan = self.groups[self.current].plan if self.current is not None else None
        if plan is not None:
            self.session.design.change(Plan.read(plan))
            self.session.stage_asked.emit("training")
