"""Many runs at once: settings with their values, and how they are combined; or the folds of a cross-validation."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QLineEdit, QSpinBox, QWidget

from attentive_lens.desk.many.searching import Axis, check_judged, folds, grid, read_axis, rungs, sample
from attentive_lens.errors import BadUsage, LensError
from attentive_lens.plan.outline import settings
from attentive_lens.plan.plan import Plan
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, chooser, horizontal, label, set_role, vertical
from attentive_lens.window.parts.flow import Flow
from attentive_lens.window.session import Session

FIRST = ("optimiser.learning_rate", "training.batch_size", "optimiser.weight_decay", "schedule", "optimiser")
"""Settings that are swept most, at the head of the list."""
FIXED_KEYS = ("name", "seed", "network", "augmentation")
EVERY, RANDOM, HALVING, FOLDS = "every combination", "random", "successive halving", "cross-validation"
HOW = {
    EVERY: "A run for each combination of the values.",
    RANDOM: "So many runs with random values of the lists, or of a range like 0.0001..0.01.",
    HALVING: "Trains all a little, drops the worse half, and so on to the last; for lists, not ranges.",
    FOLDS: "A run a fold, each with another part held out: every training image is answered by a model that never"
    " saw it.",
}
VALUES = 190
"""Pixels of the field for values."""


class SweepTools(QWidget):
    """Fields for a sweep of the next run's plan.

    Signals
    -------
    queued
        Runs wait in the queue, or a process that trains them has begun.
    """

    queued = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.over: dict[str, str] = {}
        outer = vertical(self, spacing=6)
        row = Flow(spacing=8)
        outer.addLayout(row)
        row.addWidget(label("Many runs", "faint"))
        self.how = chooser("sweep how", "how runs are chosen", items=list(HOW))
        self.how.currentTextChanged.connect(self._show_how)
        row.addWidget(self.how)
        self.count = QSpinBox()
        self.count.setObjectName("sweep count")
        self.count.setAccessibleName("runs")
        self.count.setFont(look.font())
        self.count.setRange(2, 100)
        row.addWidget(self.count)
        self.key = chooser("sweep key", "setting to sweep", "The setting that takes several values.")
        keys = [setting.key for setting in settings() if setting.key not in FIXED_KEYS]
        for key in dict.fromkeys([*FIRST, *keys]):
            self.key.addItem(key.replace("_", " ").replace(".", " · "), key)
        self.key.setMaxVisibleItems(24)
        self.key.setFixedWidth(196)
        self.values = QLineEdit()
        self.values.setObjectName("sweep values")
        self.values.setAccessibleName("values")
        self.values.setPlaceholderText("values: 0.0003, 0.001, 0.003")
        self.values.setToolTip("The values, with commas between; with «random» also a range, 0.0001..0.01.")
        self.values.setFont(look.font())
        self.values.returnPressed.connect(self.queue)
        self.add = button("And …", "add to sweep", "Another setting with values besides these.", self._add)
        row.addWidget(self.key)
        self.values.setMinimumWidth(VALUES)
        row.addWidget(self.values)
        row.addWidget(self.add)
        below = horizontal(spacing=8)
        outer.addLayout(below)
        below.addWidget(button("Queue these runs", "queue sweep", "They train one after the other.", self.queue))
        self.clear = button("Take back", "clear sweep", "No settings are swept.", self._clear)
        below.addWidget(self.clear)
        self.says = label(role="faint", name="sweep says")
        self.says.setWordWrap(True)
        outer.addWidget(self.says)
        below.addStretch()
        self._show_how()

    def _show_how(self) -> None:
        how = self.how.currentText()
        self.how.setToolTip(HOW[how])
        self.count.setVisible(how in (RANDOM, FOLDS))
        self.count.setSuffix(" folds" if how == FOLDS else " runs")
        self.count.setValue(5 if how == FOLDS else 8)
        for each in (self.key, self.values, self.add):
            each.setVisible(how != FOLDS)
        self._tell()

    def _tell(self, fault: LensError | None = None) -> None:
        """What is swept so far, or what is wrong; the button that takes it back only where there is something."""
        swept = self.how.currentText() != FOLDS
        self.clear.setVisible(swept and bool(self.over))
        words = " × ".join(f"{key.rpartition('.')[2].replace('_', ' ')} {values}" for key, values in self.over.items())
        set_role(self.says, "bad" if fault is not None else "faint")
        self.says.setText(
            str(fault) if fault is not None else words if swept and words else HOW[self.how.currentText()]
        )

    def _axes(self) -> dict[str, str]:
        """What was added, and what stands in the field."""
        values = self.values.text().strip()
        return {**self.over, self.key.currentData(): values} if values else dict(self.over)

    def _add(self) -> None:
        try:
            if not self.values.text().strip():
                read_axis(f"{self.key.currentData()}=")
            axes = self._axes()
            for axis in (read_axis(f"{key}={values}") for key, values in axes.items()):
                if not axis.is_range:
                    grid(self.session.design.plan, [axis])
        except LensError as error:
            self._tell(error)
            return
        self.over = axes
        self.values.clear()
        self._tell()

    def _clear(self) -> None:
        self.over = {}
        self._tell()

    def _plans(self, plan: Plan, axes: list[Axis]) -> tuple[Plan, ...]:
        how = self.how.currentText()
        if how == FOLDS:
            return folds(plan, self.count.value())
        if how == RANDOM:
            if not axes:
                raise BadUsage("The sweep was not begun", "no setting is named", "Name a setting with values")
            return sample(plan, axes, self.count.value())
        return grid(plan, axes)

    def queue(self) -> None:
        """Queue the runs; what is wrong is said in place and nothing is queued."""
        plan, how, over = self.session.design.plan, self.how.currentText(), self._axes()
        try:
            plans = self._plans(plan, [read_axis(f"{key}={values}") for key, values in over.items()])
            if how != FOLDS:
                check_judged(plan)
            if how == HALVING and len(plans) < 2:
                raise BadUsage("The sweep was not begun", "one run has no worse half", "Name several values")
        except LensError as error:
            self._tell(error)
            return
        if how == HALVING:
            epochs = ", ".join(map(str, rungs(plan.training.epochs, len(plans))))
            begun = self.session.runs.halve(plan, [f"{key}={values}" for key, values in over.items()])
            result = (
                f"{len(plans)} plans are trained; the worse half is given up after epochs {epochs}." if begun else ""
            )
            self.session.message.emit(result, False) if result else None
        else:
            for each in plans:
                self.session.runs.enqueue(each)
        self.over = {}
        self.values.clear()
        self._tell()
        self.queued.emit()
