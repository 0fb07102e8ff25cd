"""Advice on the run in view: what is wrong by its figures, the remedy with its button, and what came of it."""

from __future__ import annotations

from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import QFrame

from attentive_lens.desk.results.effects import effect_of
from attentive_lens.desk.training.advising import Finding, advice_of
from attentive_lens.desk.training.runs import RunView
from attentive_lens.errors import LensError
from attentive_lens.window.parts.basics import button, horizontal, label, vertical
from attentive_lens.window.session import Session


class AdvicePanel(QFrame):
    """One piece of advice at a time, the gravest first.

    Signals
    -------
    changed
        Others are there, or another one is shown.
    """

    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setProperty("role", "panel")
        self.setObjectName("advice panel")
        self.findings: tuple[Finding, ...] = ()
        self.place = 0
        self.wanted = True
        self._at: tuple[object, ...] = ()
        outer = horizontal(self, spacing=16, margins=(16, 8, 12, 8))
        words = vertical(spacing=2)
        outer.addLayout(words, 1)
        self.title = label(role="warn", strong=True, name="advice title")
        self.evidence = label(name="advice evidence")
        self.remedy = label(role="faint", name="advice remedy")
        self.effect = label(role="good", name="advice effect")
        for line in (self.title, self.evidence, self.remedy, self.effect):
            line.setWordWrap(True)
            words.addWidget(line)
        side = vertical(spacing=4)
        outer.addLayout(side)
        self.use = button("Use this remedy", "use advice", "Puts the remedy into the next run's plan.", self._use)
        side.addWidget(self.use)
        row = horizontal(spacing=4)
        self.before = button("‹", "previous advice", "The advice before.", lambda: self._step(-1))
        self.count = label(role="faint", name="advice count")
        self.count.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.after = button("›", "next advice", "The next advice.", lambda: self._step(1))
        for each in (self.before, self.after):
            each.setFixedWidth(28)
        self.before.setAccessibleName("previous advice")
        self.after.setAccessibleName("next advice")
        row.addWidget(self.before)
        row.addWidget(self.count, 1)
        row.addWidget(self.after)
        side.addLayout(row)
        side.addStretch()
        self._view: RunView | None = None
        self._soon = QTimer(self)  # in a turn of its own, so that the curves do not wait for it
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self._find)
        self.hide()

    @property
    def shown(self) -> Finding | None:
        """The advice in view."""
        return self.findings[self.place] if self.place < len(self.findings) else None

    def want(self, wanted: bool) -> None:
        """Show it where there is something to say, or not at all."""
        self.wanted = wanted
        self.setVisible(wanted and self.shown is not None)

    def show_run(self, view: RunView) -> None:
        """Of another run, or once for every epoch and end."""
        others = tuple((number, other.state) for number, other in self.session.runs.views.items())
        at = (view.number, view.state, len(view.epochs), others)
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
        """Ask for the advice, and stay with the kind in view."""
        view = self._view
        if view is None:
            return
        kind = self.shown.kind if self.shown is not None else ""
        try:
            run = self.session.workspace.run(view.number)
            self.findings = advice_of(self.session.workspace, run, view)
        except LensError:
            self.findings = ()
        self.place = next((k for k, finding in enumerate(self.findings) if finding.kind == kind), 0)
        self._show()

    def _step(self, by: int) -> None:
        self.place = (self.place + by) % max(1, len(self.findings))
        self._show()

    def _show(self) -> None:
        finding = self.shown
        self.setVisible(finding is not None and self.wanted)
        if finding is not None:
            since = f" from epoch {finding.epoch}" if finding.epoch else ""
            self.title.setText(f"{finding.kind.capitalize()}{since}")
            self.evidence.setText(f"{finding.evidence[:1].upper()}{finding.evidence[1:]}. {finding.meaning}")
            self.remedy.setText(f"{finding.remedy} Expected: {finding.expected}")
            self.use.setVisible(finding.plan is not None)
            self.count.setText(f"{self.place + 1} of {len(self.findings)}")
            for each in (self.before, self.count, self.after):
                each.setVisible(len(self.findings) > 1)
            run = self.session.workspace.run(int(str(self._at[0])))
            effect = effect_of(self.session.workspace, run, finding)
            self.effect.setText(effect.sentence if effect is not None else "")
            self.effect.setVisible(effect is not None)
        self.changed.emit()

    def _use(self) -> None:
        finding = self.shown
        if finding is not None and finding.plan is not None:
            self.session.design.change(finding.plan, f"the remedy for {finding.kind}")
            self.session.message.emit(f"The next run has the remedy: {finding.remedy} Start training to try it.", False)
