"""Advice on the run in view, in a line above its curves: what is wrong by its figures, and where the remedies are."""

from __future__ import annotations

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtWidgets import QFrame

from attentive_lens.desk.training.advising import Finding, advice_of
from attentive_lens.desk.training.runs import RunView
from attentive_lens.errors import LensError
from attentive_lens.window import look
from attentive_lens.window.parts.basics import OneLine, button, horizontal, label, vertical
from attentive_lens.window.session import Session


class AdviceStrip(QFrame):
    """The gravest trouble in two lines, which unfold to all there are.

    Signals
    -------
    changed
        There is other advice.
    """

    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setProperty("role", "panel")
        self.setObjectName("advice strip")
        self.findings: tuple[Finding, ...] = ()
        self.wanted = True
        self._at: tuple[object, ...] = ()
        outer = vertical(self, spacing=2, margins=(16, 6, 8, 6))
        row = horizontal(spacing=10)
        self.title = OneLine("advice title", "warn")
        self.title.setFont(look.font(look.TEXT, True))
        row.addWidget(self.title, 1)
        self.more = button(
            "More", "more advice", "All that is wrong, and what should come of each remedy.", self._unfold
        )
        self.more.setCheckable(True)
        row.addWidget(self.more)
        outer.addLayout(row)
        self.evidence = OneLine("advice evidence")
        outer.addWidget(self.evidence)
        self.all = label(name="all advice")
        self.all.setWordWrap(True)
        self.all.hide()
        outer.addWidget(self.all)
        self._view: RunView | None = None
        self._soon = QTimer(self)  # in a turn of its own, so that the curves do not wait for it
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self._find)
        self.hide()

    @property
    def shown(self) -> Finding | None:
        """The gravest."""
        return self.findings[0] if self.findings else None

    def want(self, wanted: bool) -> None:
        """Show it where there is something to say, or not at all."""
        self.wanted = wanted
        self.setVisible(wanted and self.shown is not None)

    def show_run(self, view: RunView) -> None:
        """Of another run, or once for every epoch and end."""
        at = (view.number, view.state, len(view.epochs))
        if at == self._at:
            return
        same = bool(self._at) and self._at[0] == view.number
        self._at, self._view = at, view
        if same:
            self._soon.start()
        else:
            self.findings = ()  # those of another run
            self._find()

    def _find(self) -> None:
        view = self._view
        if view is None:
            return
        try:
            run = self.session.workspace.run(view.number)
            self.findings = advice_of(self.session.workspace, run, view)
        except LensError:
            self.findings = ()
        self._show()

    def _show(self) -> None:
        finding = self.shown
        self.setVisible(finding is not None and self.wanted)
        if finding is not None:
            more = f" (and {len(self.findings) - 1} more)" if len(self.findings) > 1 else ""
            self.title.setText(f"{finding.kind.capitalize()}{more}")
            self.evidence.setText(f"{finding.evidence[:1].upper()}{finding.evidence[1:]}. {finding.remedy}")
            self.all.setText("\n".join(f"{each.sentence} Expected: {each.expected}" for each in self.findings))
        self.changed.emit()

    def _unfold(self) -> None:
        """Everything in full, or the gravest in a line."""
        unfolded = self.more.isChecked()
        self.more.setText("Less" if unfolded else "More")
        self.all.setVisible(unfolded)
        self.evidence.setVisible(not unfolded)
