"""How each class did: precision, recall, F1 with their intervals, and the curves of the one that is chosen."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QVBoxLayout,
)

from attentive_lens.core.telling import signed
from attentive_lens.desk.results.reference_scores import ReferenceScores, read_reference_scores, typed_reference
from attentive_lens.errors import LensError
from attentive_lens.scoring.curves import ClassCurves, curves_of
from attentive_lens.scoring.measures import OfClass, Share
from attentive_lens.scoring.scores import Scores
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, label
from attentive_lens.window.parts.table import Cell, fit_height, head, table
from attentive_lens.window.parts.unit_square import Line, UnitSquare
from attentive_lens.window.results.behind import Behind
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.session import Session

DRAWN = 30
"""Classes up to which the curves of all are drawn."""
MANY = 10
"""Classes beyond which the five that score highest are told."""
HEADS = ("class", "precision", "recall", "F1", "top-5", "images", "sure", "most taken for")
TIPS = {
    "precision": "Right among those said to be of the class, with its 95 % interval.",
    "recall": "Right among those of the class, with its 95 % interval.",
    "F1": "The harmonic mean of precision and recall.",
    "top-5": "Part of its images for which it is among the five classes that score highest.",
    "images": "Of the class in this set.",
    "sure": "Mean probability of the answer over its images.",
    "reference": "Part of the class's images that is right elsewhere.",
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

    word = "classes"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        inside = QVBoxLayout(self)
        inside.setContentsMargins(16, 12, 16, 12)
        tip = "A click on a head sorts; a row shows the class's mistakes and its curves."
        self.reference: ReferenceScores | None = None
        beside = QHBoxLayout()
        tip = "Accuracy by class or a confusion matrix of another model, as CSV: it stands beside this run's."
        self.ask_reference = button("Reference …", "reference scores", tip, self._ask_reference)
        self.typed = QLineEdit()
        self.typed.setObjectName("reference accuracy")
        self.typed.setAccessibleName("reference accuracy")
        self.typed.setPlaceholderText("accuracy elsewhere")
        self.typed.setToolTip("An accuracy reached elsewhere, as 0.93 or 93 %: the run's is set against it.")
        self.typed.setFont(look.font())
        self.typed.setFixedWidth(150)
        self.typed.editingFinished.connect(self._type_reference)
        self.compared = label(role="faint", name="reference compared")
        self.compared.setWordWrap(True)
        beside.addWidget(self.ask_reference)
        beside.addWidget(self.typed)
        beside.addWidget(self.compared, 1)
        inside.addLayout(beside)
        self.table = table("classes table", "classes", tip, one_row=True)
        self.table.itemSelectionChanged.connect(self._choose)
        inside.addWidget(self.table, 100)
        row = QHBoxLayout()
        self.precision = UnitSquare("Precision", "recall", "precision", "precision curve")
        self.roc = UnitSquare("ROC", "false positive rate", "recall", "roc curve")
        for square in (self.precision, self.roc):
            row.addWidget(square)
        inside.addLayout(row, 60)
        self.scores: Scores | None = None
        self.curves: list[ClassCurves] = []

    def leads_to(self, behind: Behind) -> None:
        """See `ResultsView`."""
        self.chosen.connect(behind.of_class)

    def refresh(self) -> None:
        """Of another run or set; the class in view stays if there is one of its name."""
        scores = self.session.scores.current
        if scores is self.scores:
            return
        before = self._selected_name()
        self.scores = scores
        rows = scores.measures.by_class if scores is not None else ()
        self.table.blockSignals(True)
        self.table.setSortingEnabled(False)
        self._compare(scores)
        by_class = self.reference.by_class if self.reference is not None else {}
        usual = HEADS if len(rows) > MANY else tuple(word for word in HEADS if word != "top-5")
        heads = (*usual, "reference") if by_class else usual
        self.table.setColumnCount(len(heads))
        self.table.setRowCount(len(rows))
        for column, words in enumerate(heads):
            item = head(words, words in ("class", "most taken for"), TIPS.get(words, ""))
            self.table.setHorizontalHeaderItem(column, item)
        for place, each in enumerate(rows):
            cells = [cell for word, cell in zip(HEADS, _cells(each), strict=True) if word in usual]
            if by_class:
                part = by_class.get(each.name)
                cells.append(Cell("–" if part is None else f"{part * 100:.1f}\u202f%", part))
            for column, cell in enumerate(cells):
                self.table.setItem(place, column, cell)
        across = self.table.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            across.setStretchLastSection(True)
        self.table.setSortingEnabled(True)
        self.table.blockSignals(False)
        fit_height(self.table)
        few = scores is not None and len(rows) <= DRAWN
        self.curves = [curves_of(scores, k) for k in range(len(rows))] if scores is not None and few else []
        names = [self.table.item(place, 0) for place in range(len(rows))]
        place = next((k for k, item in enumerate(names) if item is not None and item.text() == before), -1)
        self.table.clearSelection()
        if place >= 0:
            self.table.selectRow(place)
        else:
            self._draw(None)

    def _ask_reference(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Reference scores", "", "CSV (*.csv *.tsv *.txt)")
        if name:
            self.take_reference(Path(name))

    def take_reference(self, file: Path) -> None:
        """Set the scores in a file beside the run's."""
        try:
            self._set_reference(read_reference_scores(file))
        except LensError as error:
            self.session.message.emit(str(error), True)

    def _type_reference(self) -> None:
        words = self.typed.text().strip()
        try:
            self._set_reference(typed_reference(words) if words else None)
        except LensError as error:
            self.session.message.emit(str(error), True)

    def _set_reference(self, reference: ReferenceScores | None) -> None:
        self.reference, self.scores = reference, None
        self.refresh()

    def _compare(self, scores: Scores | None) -> None:
        """The run's accuracy against the reference's."""
        reference, words = self.reference, ""
        if reference is not None and scores is not None and reference.accuracy is not None:
            low, high = scores.measures.overview.accuracy.bounds
            points = (scores.accuracy - reference.accuracy) * 100
            within = "within" if low <= reference.accuracy <= high else "outside"
            off = signed(points, ".1f")
            words = (
                f"{reference.name}: {reference.accuracy * 100:.1f}\u202f% right; this run is {off} points off it,"
                f" {within} its own 95\u202f% interval"
            )
        elif reference is not None:
            words = f"{reference.name}: {len(reference.by_class)} classes"
        self.compared.setText(words)

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
            every = "every class; choose one" if self.curves else "choose a class"
            for square, lines in zip((self.precision, self.roc), self._faint(), strict=True):
                square.show_lines(lines, every if self.scores is not None else "")
            return
        curves = curves_of(self.scores, number)
        known = curves.area is not None and curves.average_precision is not None
        area = f"area {curves.area:.3f}" if known else "all images or none are of it"
        mean = f"average {curves.average_precision:.3f}" if known else ""
        by_recall, by_false = _points(curves)
        of_recall, of_false = self._faint()
        from_one = ("threshold", np.concatenate([[1.0], curves.thresholds]))
        at = ("threshold", curves.thresholds)
        self.precision.show_lines((*of_recall, Line(by_recall, at=at)) if known else (), mean)
        guess = Line(np.array([[0.0, 0.0], [1.0, 1.0]]), "faint", dashed=True)
        self.roc.show_lines((*of_false, guess, Line(by_false, at=from_one)) if known else (), area)

    def _faint(self) -> tuple[list[Line], list[Line]]:
        """Every class's curves, to see the chosen one among them."""
        known = [_points(each) for each in self.curves if each.area is not None]
        return [Line(points, "line") for points, _ in known], [Line(points, "line") for _, points in known]


def _points(curves: ClassCurves) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Precision by recall, and recall by false positives from 0 on: points N×2 each."""
    by_recall = np.stack([curves.recall, curves.precision], axis=1)
    by_false = np.stack([curves.false_positives, curves.recall], axis=1)
    return by_recall, np.concatenate([[[0.0, 0.0]], by_false])


def _cells(each: OfClass) -> list[Cell]:
    return [
        Cell(each.name, each.name),
        Cell(_share(each.precision), each.precision.value),
        Cell(_share(each.recall), each.recall.value),
        Cell("–" if each.f1 is None else f"{each.f1:.3f}", each.f1),
        Cell("–" if each.top5 is None else f"{each.top5 * 100:.1f}\u202f%", each.top5),
        Cell(f"{each.support}", each.support),
        Cell("–" if each.confidence is None else f"{each.confidence:.2f}", each.confidence),
        Cell(f"{each.taken_for} · {each.taken}" if each.taken else "", each.taken_for or "\uffff"),
    ]


def _share(share: Share) -> str:
    """A part in hundredths, with its interval."""
    if share.value is None or share.low is None or share.high is None:
        return "–"
    return f"{share.value * 100:.1f}\u202f%  {share.low * 100:.0f}–{share.high * 100:.0f}"
