"""What mistakes cost by a table of costs, and what decisions of least expected cost would save."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QHeaderView

from attentive_lens.desk.requests.costs import Change, CostsWeighed, WeighCosts
from attentive_lens.window.parts.basics import button, label, vertical
from attentive_lens.window.parts.matrix import ConfusionMatrix
from attentive_lens.window.parts.table import Cell, fit_height, head, table
from attentive_lens.window.results.behind import Behind
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.session import Session
from attentive_lens.window.words import counted, thousands

HEADS = ("said", "decided", "images", "saved")
TIPS = {
    "decided": "The decision of least expected cost; «withheld» where saying nothing costs least.",
    "saved": "In all, in the unit of the table; below zero it costs more.",
}
START = (
    "A table of costs says what each confusion costs, true classes down and decisions across, or a line each: true,"
    " said, cost. What it does not name costs 1, a right answer nothing. A decision may be «withheld»."
)
TABLES = "Tables (*.csv *.tsv *.txt *.parquet)"


class CostsView(ResultsView):
    """A row for each change of decisions.

    Signals
    -------
    chosen
        Images to be shown: words, and their numbers.
    """

    chosen = pyqtSignal(str, tuple)

    word = "costs"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.result: CostsWeighed | None = None
        self.file = ""
        self._taken = 0
        """How often a table was taken: the same file may say something else."""
        inside = vertical(self, spacing=8, margins=(16, 12, 16, 12))
        row = QHBoxLayout()
        self.says = label(START, name="costs say")
        self.says.setWordWrap(True)
        row.addWidget(self.says, 1)
        tip = "What each confusion costs, from a file; it is read again when the run or the set is another."
        row.addWidget(button("Cost table …", "cost table", tip, self._ask_table))
        inside.addLayout(row)
        tip = "A row shows the images that are decided so."
        self.table = table("costs table", "changes of decisions", tip, one_row=True)
        self.table.itemSelectionChanged.connect(self._choose)
        inside.addWidget(self.table, 2)
        self.matrix = ConfusionMatrix()
        self.matrix.across = "decided"
        self.matrix.setObjectName("decided matrix")
        self.matrix.setAccessibleName("images by true class and decision")
        self.matrix.setToolTip("A click shows the images of a cell, a name those of its row or column.")
        self.matrix.chosen.connect(self._choose_cells)
        inside.addWidget(self.matrix, 3)
        self.empty = label("", name="costs empty")
        inside.addWidget(self.empty, 1)
        self._show(None, START)

    def leads_to(self, behind: Behind) -> None:
        """See `ResultsView`."""
        self.chosen.connect(behind.numbered)

    def figure(self) -> str:
        """What would be saved, once that is known."""
        return f"saves {self.result.saved.value:.2g}".replace("-", "\u2212") if self.result is not None else ""

    def _ask_table(self) -> None:
        if file := QFileDialog.getOpenFileName(self, "Table of costs", "", TABLES)[0]:
            self.take_table(Path(file))

    def take_table(self, file: Path) -> None:
        """Weigh the answers by a table."""
        self.file, self._taken = str(file), self._taken + 1
        self.refresh()

    def refresh(self) -> None:
        """Weigh those of the run and set in view by the table in hand."""
        run = self.session.runs.in_view
        if run is None or not self.file or not self.asks_anew(self.file, self._taken):
            return
        self._show(None, "Weighing costs …")
        request = WeighCosts(self.session.place, run, self.file, self.session.scores.on)
        self.session.ask(request, self._take, lambda words: self._show(None, words), priority=3, scope="costs")

    def _take(self, result: CostsWeighed) -> None:
        self._show(result, f"{result.table}: {' '.join(result.sentences())}".replace("-", "\u2212"))
        self.changed.emit()

    def _show(self, result: CostsWeighed | None, words: str) -> None:
        self.result = result
        self.says.setText(words)
        changes = result.changes() if result is not None else []
        self.table.setVisible(bool(changes))
        self.matrix.setVisible(result is not None)
        self.empty.setVisible(result is None)
        if result is not None:
            self.matrix.show_counts(result.decisions, result.matrix())
        self.table.blockSignals(True)
        self.table.clearSelection()
        self.table.setColumnCount(len(HEADS))
        self.table.setRowCount(len(changes))
        for column, name in enumerate(HEADS):
            self.table.setHorizontalHeaderItem(column, head(name, column < 2, TIPS.get(name, "")))
            for place, change in enumerate(changes):
                self.table.setItem(place, column, Cell(_cells(change)[column], "" if column < 2 else None))
        across = self.table.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        fit_height(self.table)
        self.table.blockSignals(False)

    def choose_none(self) -> None:
        """See `ResultsView`."""
        self.table.clearSelection()
        self.matrix.choose_none()

    def _choose_cells(self, first: int, last: int, begin: int, end: int) -> None:
        if self.result is not None:
            names = self.result.decisions
            true, decided = (names[a] if a == b else "several classes" for a, b in ((first, last), (begin, end)))
            self.table.clearSelection()
            images = self.result.images_in((first, last), (begin, end))
            self.chosen.emit(f"{true}, decided {decided}: {counted(len(images), 'image', 'images')}", images)

    def _choose(self) -> None:
        rows = {item.row() for item in self.table.selectedItems()}
        if self.result is not None and len(rows) == 1:
            each = self.result.changes()[rows.pop()]
            self.matrix.choose_none()
            self.chosen.emit(f"said {each.predicted}, decided {each.decided}", each.images)


def _cells(change: Change) -> tuple[str, ...]:
    saved = f"{change.saved:.4g}".replace("-", "\u2212")
    return change.predicted, change.decided, thousands(len(change.images)), saved
