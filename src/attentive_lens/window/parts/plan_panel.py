"""What the next run is called and drawn by, and its plan as a file."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QGridLayout, QLineEdit, QMenu, QWidget

from attentive_lens.desk.network.design import open_plan, save_plan
from attentive_lens.desk.requests.rehearsing import Rehearse, Rehearsed
from attentive_lens.errors import LensError
from attentive_lens.plan.outline import NAME, SEED
from attentive_lens.plan.plan import Plan
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, horizontal, label, set_role, vertical
from attentive_lens.window.parts.fold import Fold
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands

FIELD = 176
"""Pixels: a field of the forms below and its unit."""
PLAN_FILES = "Plans (*.toml);;All files (*)"


class PlanPanel(QWidget):
    """Name and seed of the plan being designed, folded; open it from a file, save it to one."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._rehearsed: Plan | None = None
        inside = vertical(self, spacing=6)
        row = horizontal(spacing=8)
        self.images = label(role="faint", name="plan images")
        row.addWidget(self.images, 1)
        tip = "Let the plan run through on a few images, in seconds: what would end the long run ends this one."
        self.rehearsal = button("Rehearse", "rehearse", tip, self._rehearse)
        self.rehearsal.setEnabled(not session.reading_only)
        row.addWidget(self.rehearsal)
        inside.addLayout(row)
        self.ran = label(role="faint", size=look.SMALL, name="rehearsal says")
        self.ran.setWordWrap(True)
        self.ran.hide()
        inside.addWidget(self.ran)
        tip = "What the run is called, what its random numbers start from, and its plan as a file."
        self.fold = Fold("Name and seed", "name and seed", tip)
        inside.addWidget(self.fold)
        grid = QGridLayout()
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(6)
        grid.setColumnStretch(0, 1)
        self.name = self._field("name", NAME, grid, 0)
        self.seed = self._field("seed", SEED, grid, 1)
        self.seed.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.fold.inside.addLayout(grid)
        row = horizontal(spacing=8)
        tip = "Open a plan from a file, or save this one with every setting explained."
        self.file = button("Plan file", "plan file", tip, lambda: None)
        menu = QMenu(self.file)
        menu.addAction("Open …", self._open)
        menu.addAction("Save as …", self._save)
        self.file.setMenu(menu)
        row.addWidget(self.file)
        row.addStretch()
        self.fold.inside.addLayout(row)
        self.problem = label(role="bad", name="plan problem")
        self.problem.setWordWrap(True)
        self.problem.setVisible(bool(session.design.problem))
        self.problem.setText(session.design.problem)
        inside.addWidget(self.problem)
        session.plan_changed.connect(self.refresh)
        self.refresh()

    def _field(self, name: str, meaning: str, grid: QGridLayout, row: int) -> QLineEdit:
        caption = label(name, "faint")
        caption.setToolTip(meaning)
        line = QLineEdit()
        line.setObjectName(f"plan.{name}")
        line.setAccessibleName(name)
        line.setToolTip(meaning)
        line.setFont(look.font())
        line.setFixedWidth(FIELD)
        line.editingFinished.connect(self._edited)
        grid.addWidget(caption, row, 0)
        grid.addWidget(line, row, 1)
        return line

    def _rehearse(self) -> None:
        """Have the plan run through in small."""
        self.rehearsal.setEnabled(False)
        self._say("Rehearsing …", "faint")
        self._rehearsed = self.session.design.plan
        request = Rehearse(self.session.place, self._rehearsed.write())
        self.session.ask(request, self._take_rehearsal, partial(self._end_rehearsal, "bad"), scope="rehearsal")

    def _take_rehearsal(self, summary: Rehearsed) -> None:
        self._end_rehearsal("bad" if summary.runs_away else "good", " ".join(summary.words()))

    def _end_rehearsal(self, role: str, sentence: str) -> None:
        self.rehearsal.setEnabled(True)
        self._say(sentence, role)

    def _say(self, sentence: str, role: str) -> None:
        self.ran.setText(sentence)
        set_role(self.ran, role)
        self.ran.setVisible(bool(sentence))

    def refresh(self) -> None:
        """Show the plan as it is now; what was rehearsed of another is no longer true."""
        if self._rehearsed is not None and self._rehearsed != self.session.design.plan:
            self._rehearsed = None
            self._end_rehearsal("faint", "")
        plan, collection = self.session.design.plan, self.session.images.collection
        counts = [f"{thousands(collection.count(name))} {name}" for name in ("training", "validation")]
        self.images.setText(f"{', '.join(counts)} images")
        self.name.setText(plan.name)
        self.name.setCursorPosition(0)
        self.seed.setText(str(plan.seed))
        self.fold.say(f"{plan.name}, {plan.seed}")

    def _edited(self) -> None:
        plan, seed = self.session.design.plan, self.seed.text().strip()
        try:
            number = int(seed) if seed.isascii() and seed.isdigit() and len(seed) < 19 else seed
            self._take(replace(plan, name=self.name.text().strip(), seed=number))  # type: ignore[arg-type]
        except LensError as error:
            self._refuse(error)
            self.refresh()

    def _take(self, plan: object) -> None:
        self.problem.hide()
        self.session.design.change(plan)  # type: ignore[arg-type]

    def _refuse(self, error: LensError) -> None:
        self.problem.setText(str(error))
        self.problem.show()

    def _open(self) -> None:
        name = QFileDialog.getOpenFileName(self, "Open a plan", "", PLAN_FILES)[0]
        if name:
            self.open_file(Path(name))

    def open_file(self, file: Path) -> None:
        """Take the plan in a file; one that cannot be taken changes nothing."""
        try:
            self._take(open_plan(file))
        except LensError as error:
            self._refuse(error)
        else:
            self.session.message.emit(f"The plan of {file.name} is the next run's now.", False)

    def _save(self) -> None:
        name = QFileDialog.getSaveFileName(self, "Save the plan", f"{self.session.design.plan.name}.toml", PLAN_FILES)[
            0
        ]
        if name:
            self.save_file(Path(name))

    def save_file(self, file: Path) -> None:
        """Write the plan to a file."""
        try:
            save_plan(file, self.session.design.plan)
        except LensError as error:
            self._refuse(error)
        else:
            self.problem.hide()
            self.session.message.emit(f"The plan was written to {file.name}.", False)
