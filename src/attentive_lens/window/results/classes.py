"""How each class did: precision, recall, F1 with their intervals, and the curves of the one that is chosen."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QHeaderView,
    QVBoxLayout,
)

from attentive_lens.scoring.curves import curves_of
from attentive_lens.scoring.measures import OfClass, Share, per_class
from attentive_lens.scoring.scores import Scores
from attentive_lens.window.parts.table import Cell, head, table
from attentive_lens.window.parts.unit_square import Line, UnitSquare
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.session import Session

HEADS = ("class", "precision", "recall", "F1", "images", "sure", "most taken for")
TIPS = {
    "precision": "Right among those said to be of the class, with its 95 % interval.",
    "recall": "Right among those of the class, with its 95 % interval.",
    "F1": "The harmonic mean of precision and recall.",
    "images": "Of the class in this set.",
    "sure": "Mean probability of the answer over its images.",
    "most taken for": "The class it is most often said to be, and how often.",
}


class ClassesView(ResultsView):
    """A row a class.

    Signals
    -------
    chosen
        The class of the row that was selected, by its number.
    """

    chosen = pyqtSignal(int)

    def __init__(self, session: Session) -> None:
        super().__init__(session, "classes view")
        inside = QVBoxLayout(self)
        inside.setContentsMargins(16, 12, 16, 12)
        tip = "A click on a head sorts; a row shows the class's mistakes and its curves."
        self.table = table("classes table", "classes", tip, one_row=True)
        self.table.itemSelectionChanged.connect(self._choose)
        inside.addWidget(self.table, 3)
        row = QHBoxLayout()
        self.precision = UnitSquare("Precision", "recall", "precision", "precision curve")
        self.found = UnitSquare("Found", "falsely said", "found", "found curve")
        for square in (self.precision, self.found):
            row.addWidget(square)
        inside.addLayout(row, 2)
        self.scores: Scores | None = None

    def refresh(self) -> None:
        """Of another run or set; the class in view stays if there is one of its name."""
        scores = self.session.scores.current
        if scores is self.scores:
            return
        before = self._selected_name()
        self.scores = scores
        rows = per_class(scores) if scores is not None else ()
        self.table.blockSignals(True)
        self.table.setSortingEnabled(False)
        self.table.setColumnCount(len(HEADS))
        self.table.setRowCount(len(rows))
        for column, words in enumerate(HEADS):
            item = head(words, words in ("class", "most taken for"), TIPS.get(words, ""))
            self.table.setHorizontalHeaderItem(column, item)
        for place, each in enumerate(rows):
            for column, cell in enumerate(_cells(each)):
                self.table.setItem(place, column, cell)
        across = self.table.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            across.setStretchLastSection(True)
        self.table.setSortingEnabled(True)
        self.table.blockSignals(False)
        names = [self.table.item(place, 0) for place in range(len(rows))]
        place = next((k for k, item in enumerate(names) if item is not None and item.text() == before), -1)
        self.table.clearSelection()
        if place >= 0:
            self.table.selectRow(place)
        else:
            self._draw(None)

    def _selected_name(self) -> str:
        items = self.table.selectedItems()
        first = self.table.item(items[0].row(), 0) if items else None
        return first.text() if first is not None else ""

    def selected(self) -> int | None:
        """Number of the class in view."""
        name = self._selected_name()
        return self.scores.classes.index(name) if self.scores is not None and name in self.scores.classes else None

    def _choose(self) -> None:
        number = self.selected()
        self._draw(number)
        if number is not None:
            self.chosen.emit(number)

    def _draw(self, number: int | None) -> None:
        if number is None or self.scores is None:
            for square in (self.precision, self.found):
                square.show_lines((), "choose a class")
            return
        curves = curves_of(self.scores, number)
        known = curves.area is not None and curves.average_precision is not None
        area = f"area {curves.area:.3f}" if known else "all images or none are of it"
        mean = f"average {curves.average_precision:.3f}" if known else ""
        by_recall = np.stack([curves.recall, curves.precision], axis=1)
        by_false = np.concatenate([[[0.0, 0.0]], np.stack([curves.false_positives, curves.recall], axis=1)])
        from_one = ("threshold", np.concatenate([[1.0], curves.thresholds]))
        at = ("threshold", curves.thresholds)
        self.precision.show_lines((Line(by_recall, at=at),) if known else (), mean)
        guess = Line(np.array([[0.0, 0.0], [1.0, 1.0]]), "faint", dashed=True)
        self.found.show_lines((guess, Line(by_false, at=from_one)) if known else (), area)


def _cells(each: OfClass) -> list[Cell]:
    return [
        Cell(each.name, each.name),
        Cell(_share(each.precision), each.precision.value),
        Cell(_share(each.recall), each.recall.value),
        Cell("–" if each.f1 is None else f"{each.f1:.3f}", each.f1),
        Cell(f"{each.support}", each.support),
        Cell("–" if each.confidence is None else f"{each.confidence:.2f}", each.confidence),
        Cell(f"{each.taken_for} · {each.taken}" if each.taken else "", each.taken_for or "\uffff"),
    ]


def _share(share: Share) -> str:
    if share.value is None or share.low is None or share.high is None:
        return "–"
    return f"{share.value * 100:.1f}\u2009%  {share.low * 100:.0f}–{share.high * 100:.0f}"
