"""All runs in a table: what they differ in, how good they came to be; chosen ones are drawn beside the run in view."""

from __future__ import annotations

import contextlib

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFrame,
    QHBoxLayout,
    QHeaderView,
)

from attentive_lens.desk.results.comparing import RunRow, compare, folds_told, runs_table, spread
from attentive_lens.errors import LensError
from attentive_lens.window.parts.basics import button, label, set_role, vertical
from attentive_lens.window.parts.table import Cell, head, table
from attentive_lens.window.session import Session
from attentive_lens.window.training.run_tools import RunTools
from attentive_lens.window.words import duration, main_figure

FIXED = ("run", "name", "state", "best epoch", "accuracy", "95 %", "loss", "time", "advice", "note")
WORDS = ("name", "state", "advice", "note")
"""Columns of words, which stand at the left."""
LONG = 60
"""Letters of a note or an advice that are shown."""
PINNED = " ●"
MOST = 6
"""Runs drawn beside the one in view, at most."""


class RunsPanel(QFrame):
    """The table of all runs.

    Signals
    -------
    closed
        It is no longer wanted.
    overlaid
        Other runs are to be drawn beside the one in view.
    """

    closed, overlaid = pyqtSignal(), pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setProperty("role", "panel")
        self.setObjectName("runs panel")
        self.beside: tuple[int, ...] = ()
        self._advice: dict[int, str] = {}
        inside = vertical(self, spacing=8, margins=(16, 12, 16, 12))
        tip = "A click on a head sorts. Select runs (Ctrl adds) to compare them or draw their curves."
        self.table = table("runs table", "all runs", tip)
        self.table.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.table.itemSelectionChanged.connect(self._say_of_selected)
        self.table.itemDoubleClicked.connect(lambda item: self._view(item.row()))
        inside.addWidget(self.table, 1)
        self.advice = label(role="faint", name="runs advice")
        self.advice.setWordWrap(True)
        inside.addWidget(self.advice)
        self.tools = RunTools(session)
        self.tools.changed.connect(self.refresh)
        session.runs_changed.connect(self._runs_changed)
        inside.addWidget(self.tools)
        row = QHBoxLayout()
        self.draw = button("Draw their curves", "draw runs", "Beside those of the run in view.", self._draw)
        self.see = button("View this run", "view run", "Its curves, results and explanations.", self._view_selected)
        for each in (self.draw, self.see, button("Close", "close runs", "Back to the curves.", self.closed.emit)):
            row.addWidget(each)
        row.addStretch()
        inside.addLayout(row)

    def _runs_changed(self) -> None:
        if self.isVisible():
            self.refresh()

    def refresh(self) -> None:
        """List the runs there are now; those selected stay so."""
        selected = set(self.selected())
        self.table.blockSignals(True)  # until all of it is there
        known = runs_table(self.session.workspace, self.session.runs.views)
        self._advice = {row.run: row.advice for row in known.rows}
        self.table.setSortingEnabled(False)
        heads = [*FIXED, *map(_head, known.keys)]
        self.table.setColumnCount(len(heads))
        for column, words in enumerate(heads):
            tip = known.keys[column - len(FIXED)] if column >= len(FIXED) else ""
            self.table.setHorizontalHeaderItem(column, head(words, words in WORDS, tip))
        self.table.setRowCount(len(known.rows))
        for place, run in enumerate(sorted(known.rows, key=lambda row: (not row.pinned, row.run))):
            for column, cell in enumerate(_cells(run, known.keys)):
                self.table.setItem(place, column, cell)
        across = self.table.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.table.setSortingEnabled(True)
        self.table.clearSelection()
        mode = self.table.selectionMode()
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.MultiSelection)
        for place in range(self.table.rowCount()):
            if self._run_at(place) in selected:
                self.table.selectRow(place)
        self.table.setSelectionMode(mode)
        self.table.blockSignals(False)
        self._say_of_selected()

    def selected(self) -> list[int]:
        """Numbers of the runs selected, from top to bottom."""
        return [self._run_at(place) for place in sorted({item.row() for item in self.table.selectedItems()})]

    def _run_at(self, place: int) -> int:
        item = self.table.item(place, 0)
        return int(item.text().removesuffix(PINNED)) if item is not None else 0

    def _say_of_selected(self) -> None:
        selected = self.selected()
        others = set(selected) - {self.session.runs.current}
        self.draw.setText("Draw their curves" if others or not self.beside else "Take curves off")
        self.draw.setVisible(bool(others or self.beside))
        self.see.setVisible(len(selected) == 1)
        self.tools.show_run(selected[0] if len(selected) == 1 else None)
        set_role(self.advice, "faint")
        if len(selected) == 2:
            try:
                self.advice.setText(compare(self.session.workspace, *selected).advice)
            except LensError as error:
                self.advice.setText(str(error))
                set_role(self.advice, "bad")
        elif len(selected) == 1:
            self.advice.setText(self._say_of(selected[0]))
        else:
            self.advice.setText("Select two runs to see whether their difference is more than chance.")

    def _say_of(self, number: int) -> str:
        """What a run's curves say, and how far apart those are that differ from it in the seed alone."""
        advice = self._advice.get(number, "")
        with contextlib.suppress(LensError):
            result = spread(self.session.workspace, self.session.workspace.run(number).plan())
            advice = f"{advice} {result.advice}".strip() if result is not None else advice
            advice = f"{advice} {folds_told(self.session.workspace, self.session.workspace.run(number).plan())}".strip()
        return advice

    def _draw(self) -> None:
        others = [run for run in self.selected() if run != self.session.runs.current]
        self.beside = tuple(others[:MOST])
        self.overlaid.emit()
        self.closed.emit()

    def _view_selected(self) -> None:
        self.session.runs.choose(self.selected()[0])
        self.closed.emit()

    def _view(self, place: int) -> None:
        self.session.runs.choose(self._run_at(place))
        self.closed.emit()


def _cells(run: RunRow, keys: tuple[str, ...]) -> list[Cell]:
    within = "" if run.low is None or run.high is None else f"{run.low * 100:.0f}–{run.high * 100:.0f}"
    cells = [
        Cell(f"{run.run}{PINNED if run.pinned else ''}", run.run),
        Cell(run.name, run.name),
        Cell(run.state, run.state),
        Cell(f"{run.best_epoch} of {run.epochs}", run.best_epoch),
        Cell(main_figure(run.main_in_words) or "–", run.accuracy),
        Cell(within, run.low),
        Cell("–" if run.loss is None else f"{run.loss:.3f}".replace("-", "\u2212"), run.loss),
        Cell(duration(run.seconds), run.seconds),
        Cell(run.advice if len(run.advice) < LONG else f"{run.advice[:LONG]}…", run.advice),
        Cell(run.note if len(run.note) < LONG else f"{run.note[:LONG]}…", run.note),
    ]
    for key in keys:
        words = run.settings.get(key, "–")
        cells.append(Cell(words, _number(words)))
    return cells


def _head(key: str) -> str:
    """A setting's own word: epochs for training.epochs, optimiser for optimiser.kind."""
    section, _, name = key.rpartition(".")
    return section if name == "kind" and section else name.replace("_", " ")


def _number(words: str) -> float | str:
    try:
        return float(words)
    except ValueError:
        return words
