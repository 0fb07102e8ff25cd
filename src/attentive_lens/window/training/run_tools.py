"""What is done with runs of the table: name, note, pin, delete and bring back, repeat, sweep."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QLineEdit, QMenu, QMessageBox, QWidget

from attentive_lens.desk.results.comparing import free_seed
from attentive_lens.errors import LensError
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, horizontal, vertical
from attentive_lens.window.session import Session
from attentive_lens.window.training.sweep_tools import SweepTools
from attentive_lens.workspace.about import About


class RunTools(QWidget):
    """Fields and buttons for the selected run, and for runs to come.

    Signals
    -------
    changed
        A run is called otherwise, is gone, or is back.
    """

    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._run: int | None = None
        outer = vertical(self, spacing=6)
        row = horizontal(spacing=8)
        outer.addLayout(row)
        self.name, self.note = QLineEdit(), QLineEdit()
        for field, word, tip, share in (
            (self.name, "run name", "What the run is called here; empty: as its plan.", 2),
            (self.note, "run note", "Whatever is worth remembering of it.", 4),
        ):
            field.setObjectName(word)
            field.setAccessibleName(word)
            field.setPlaceholderText(word.removeprefix("run "))
            field.setToolTip(tip)
            field.setFont(look.font())
            field.editingFinished.connect(self._keep)
            row.addWidget(field, share)
        self.pin = button("Pin", "pin run", "Pinned runs stand first in the table.", self._pin, checkable=True)
        self.repeat = button(
            "Repeat", "repeat run", "Queues its plan with another seed, to see how much chance matters.", self._repeat
        )
        self.remove = button("Delete", "delete run", "Moves the run to the bin; it can be brought back.", self._delete)
        self.bin = button("Bin", "bin", "Deleted runs: bring one back, or remove them for good.", lambda: None)
        self.bin.setMenu(QMenu(self.bin))
        for each in (self.pin, self.repeat, self.remove, self.bin):
            row.addWidget(each)
        self.sweep = SweepTools(session)
        self.sweep.queued.connect(self.changed)
        outer.addWidget(self.sweep)
        self.show_run(None)

    def show_run(self, number: int | None) -> None:
        """The one run that is selected, or none."""
        self.show_bin()
        if number != self._run or number is None:
            about = self.session.workspace.run(number).about() if number is not None else About()
            self.name.setText(about.name)
            self.note.setText(about.note)
            self.pin.setChecked(about.pinned)
        self._run = number
        view = self.session.runs.views.get(number) if number is not None else None
        for each in (self.name, self.note, self.pin, self.repeat, self.remove):
            each.setVisible(view is not None)
        self.remove.setEnabled(view is not None and view.state != "training")
        self.remove.setText("Take from queue" if view is not None and view.state == "waiting" else "Delete")

    def _keep(self) -> None:
        if self._run is None:
            return
        try:
            about = About(self.name.text().strip(), self.note.text().strip(), self.pin.isChecked())
            self.session.runs.keep_about(self._run, about)
            self.changed.emit()
        except LensError as error:
            self.session.message.emit(str(error), True)

    def _pin(self) -> None:
        self._keep()

    def _delete(self) -> None:
        number = self._run
        if number is not None:
            self._run = None
            self.session.runs.delete(number)
            self.changed.emit()

    def show_bin(self) -> None:
        """How many runs can be brought back, and which."""
        deleted = self.session.runs.deleted()
        self.bin.setVisible(bool(deleted))
        self.bin.setText(f"Bin · {len(deleted)}")
        menu = self.bin.menu()
        if menu is None:
            return
        menu.clear()
        for number in deleted:
            menu.addAction(f"Bring run {number} back", partial(self._restore, number))
        menu.addSeparator()
        menu.addAction("Empty the bin …", self._empty)

    def _restore(self, number: int) -> None:
        self.session.runs.restore(number)
        self.changed.emit()

    def _empty(self) -> None:
        """Asked first: it cannot be undone."""
        deleted = self.session.runs.deleted()
        runs = "run " + str(deleted[0]) if len(deleted) == 1 else f"{len(deleted)} runs"
        request = f"Remove {runs} for good, with models, curves and scores? That cannot be undone."
        if QMessageBox.question(self, "Empty the bin", request) == QMessageBox.StandardButton.Yes:
            self.session.runs.empty_bin()
            self.changed.emit()

    def _repeat(self) -> None:
        if self._run is None:
            return
        try:
            plan = self.session.workspace.run(self._run).plan()
            self.session.runs.enqueue(replace(plan, seed=free_seed(self.session.workspace, plan)))
        except LensError as error:
            self.session.message.emit(str(error), True)
        self.changed.emit()
