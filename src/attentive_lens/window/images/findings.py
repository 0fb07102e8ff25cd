"""What the fault finder found, and what can be done about it."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QPushButton, QScrollArea, QWidget

from attentive_lens.desk.requests.images import Fault, FaultsFound, FindFaults
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, label, retire, vertical
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands


class Findings(QFrame):
    """A button that looks, a row for each kind of finding, and the files that gave no image.

    Signals
    -------
    chosen
        Another finding is to be shown, or none.
    """

    chosen = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setProperty("role", "panel")
        self.setObjectName("faults panel")
        self.findings: tuple[Fault, ...] = ()
        self.finding: int | None = None
        layout = vertical(self, spacing=6, margins=(16, 12, 16, 12))
        layout.addWidget(label("Faults", strong=True))
        self.look_for = button(
            "Look for faults",
            "look for faults",
            "Copies in two sets, marks that give a class away, poor images, doubtful labels, rare classes.",
            self._look,
        )
        layout.addWidget(self.look_for)
        body = QWidget()
        self.rows = vertical(body, spacing=2)
        self.skipped = label(name="skipped files", size=look.SMALL)
        self.skipped.setWordWrap(True)
        self.skipped.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.list_rows = vertical(spacing=2)
        self.rows.addLayout(self.list_rows)
        self.rows.addWidget(label("Not read", "faint", look.SMALL))
        self.rows.addWidget(self.skipped)
        self.rows.addStretch()
        scroll = QScrollArea()
        scroll.setAccessibleName("what was found")
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(body)
        layout.addWidget(scroll, 1)
        session.images.repainted.connect(lambda _: self.forget())

    @property
    def current(self) -> Fault | None:
        """The finding to show, if one is chosen."""
        return self.findings[self.finding] if self.finding is not None else None

    def forget(self) -> None:
        """What was found is void: the images are others."""
        self._list(())
        self.look_for.setText("Look for faults")

    def clear(self) -> None:
        """Show no finding."""
        self.finding = None
        for k in range(self.list_rows.count()):
            item = self.list_rows.itemAt(k)
            row = item.widget() if item is not None else None
            if isinstance(row, QPushButton):
                row.setChecked(False)

    def show_skipped(self, skipped: list[tuple[str, str]]) -> None:
        """Files that gave no image."""
        lines = [f"{file.rsplit('/', 1)[-1]!s}\n{why}" for file, why in skipped[:200]]
        if len(skipped) > 200:
            lines.append(f"and {thousands(len(skipped) - 200)} more: attentive-lens faults --json")
        self.skipped.setText("\n\n".join(lines) if lines else "Every file was read.")

    def _look(self) -> None:
        self.look_for.setEnabled(False)
        self.look_for.setText("Looking …")
        request = FindFaults(self.session.place, self.session.design.plan.write())
        self.session.ask(request, self._take, self._failed, priority=8, scope="faults")

    def _failed(self, sentence: str) -> None:
        self.look_for.setEnabled(True)
        self.look_for.setText("Look for faults")
        self.session.message.emit(sentence, True)

    def _take(self, values: FaultsFound) -> None:
        self._list(values.faults)
        self.look_for.setText("Look again" if self.findings else "No faults were found")

    def _list(self, findings: tuple[Fault, ...]) -> None:
        self.findings, self.finding = findings, None
        self.look_for.setEnabled(True)
        while self.list_rows.count():
            item = self.list_rows.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                retire(widget)
        for k, finding in enumerate(self.findings):
            words = f"{finding.kind} · {thousands(len(finding.images))}"
            row = button(words, f"finding {k}", finding.why, partial(self._choose, k), checkable=True)
            row.setProperty("role", "row")
            self.list_rows.addWidget(row)
        self.chosen.emit()

    def _choose(self, number: int) -> None:
        self.finding = None if self.finding == number else number
        for k in range(self.list_rows.count()):
            item = self.list_rows.itemAt(k)
            row = item.widget() if item is not None else None
            if isinstance(row, QPushButton):
                row.setChecked(k == self.finding)
        self.chosen.emit()


class Remedy(QFrame):
    """Above the sheet: why the chosen finding is one, and a button for each thing that can be done."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setProperty("role", "panel")
        self.setObjectName("remedy")
        layout = vertical(self, spacing=6, margins=(14, 8, 14, 8))
        self.why = label(role="warn", name="finding why")
        self.why.setWordWrap(True)
        layout.addWidget(self.why)
        self.buttons = vertical(spacing=4)
        layout.addLayout(self.buttons)

    def show_finding(self, finding: Fault | None) -> None:
        """Another finding, or none."""
        self.setVisible(finding is not None)
        while self.buttons.count():
            item = self.buttons.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                retire(widget)
        if finding is None:
            return
        self.why.setText(f"{finding.why}. {finding.remedy}.")
        for k, action in enumerate(finding.actions):
            words = action.word[0].upper() + action.word[1:]
            of_split = bool(action.together) or "split.group_pattern" in action.settings
            tip = "What moves to another set is said below." if of_split else "It can be undone."
            action_button = button(words, f"remedy {k}", tip, partial(self.session.act, action))
            self.buttons.addWidget(action_button, 0, Qt.AlignmentFlag.AlignLeft)
