"""The confusion matrix with what orders it, and the pairs that are confused most as sentences."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QListWidget, QListWidgetItem

from attentive_lens.core.objects import Same
from attentive_lens.desk.requests.ordering import ClassesOrdered, OrderClasses
from attentive_lens.scoring.ordering import ORDERS, ordered
from attentive_lens.scoring.scores import Scores
from attentive_lens.window import look
from attentive_lens.window.parts.basics import chooser, label, vertical, view_button
from attentive_lens.window.parts.matrix import ConfusionMatrix
from attentive_lens.window.parts.saving import can_be_saved
from attentive_lens.window.results.behind import Behind
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands

SHARES = {
    "counts": ("", "Images in each cell."),
    "% of true": ("row", "Share of the true class's images: a row adds up to 100."),
    "% of said": ("column", "Share of the images said to be it: a column adds up to 100."),
}
PAIRS, SHOWN = 200, 4
"""Pairs listed at most, and lines of them that are seen at once."""
LINE = 22
USER = Qt.ItemDataRole.UserRole
FAR = "similar together"
"""The order that the worker finds: of many classes it takes a while."""


class MatrixView(ResultsView):
    """The matrix in an order of its own.

    Signals
    -------
    chosen
        Cells, each a true class and the class said by their numbers.
    """

    chosen = pyqtSignal(frozenset)

    word = "matrix"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.order: NDArray[np.int64] = np.zeros(0, np.int64)
        self._shown: tuple[object, ...] = ()
        inside = vertical(self, spacing=6, margins=(16, 8, 16, 10))
        row = QHBoxLayout()
        self.shares = {}
        for words, (shares, tip) in SHARES.items():
            self.shares[shares] = view_button(words, f"matrix {words}", tip, partial(self.show_shares, shares))
            row.addWidget(self.shares[shares])
        self.shares[""].setChecked(True)
        row.addStretch()
        row.addWidget(label("order", "faint"))
        self.orders = chooser(
            "matrix order",
            "order of the classes",
            "How rows and columns stand: similar classes together show blocks of confusion.",
        )
        for name in ORDERS:
            self.orders.addItem(name, name)
        self.orders.activated.connect(lambda _: self.refresh())
        row.addWidget(self.orders)
        inside.addLayout(row)
        self.matrix = ConfusionMatrix()
        self.matrix.setToolTip(
            "Click a cell, a name, or drag over cells to see their images. Ctrl and the wheel, + and − zoom; 0 fits."
        )
        self.matrix.chosen.connect(self._choose)
        can_be_saved(self.matrix, "confusion-matrix", self.session.message.emit)
        inside.addWidget(self.matrix, 1)
        self.pairs = QListWidget()
        self.pairs.setObjectName("confused pairs")
        self.pairs.setAccessibleName("pairs of classes that are confused most")
        self.pairs.setToolTip("The pairs that are confused most; one shows its images.")
        self.pairs.setFont(look.font())
        self.pairs.setFrameShape(QFrame.Shape.NoFrame)
        self.pairs.currentRowChanged.connect(self._choose_pair)
        inside.addWidget(self.pairs)

    def leads_to(self, behind: Behind) -> None:
        """See `ResultsView`."""
        self.chosen.connect(behind.cells)

    def show_shares(self, shares: str) -> None:
        """Counts, or parts of rows or columns."""
        for key, each in self.shares.items():
            each.setChecked(key == shares)
        self.matrix.shares = shares
        self.matrix.redraw()

    def choose_none(self) -> None:
        """Nothing is chosen."""
        self.matrix.choose_none()
        self.pairs.blockSignals(True)
        self.pairs.setCurrentRow(-1)
        self.pairs.blockSignals(False)

    def refresh(self) -> None:
        """Show the scores in view, in the order chosen."""
        scores, order = self.session.scores.current, str(self.orders.currentData())
        wanted = (Same(scores), order)
        if scores is None:
            self._shown = ()
            self.matrix.show_counts((), np.zeros((0, 0), np.int64))
            self._list_pairs(None)
            return
        if wanted == self._shown:
            return
        if wanted[0] != (self._shown or (None,))[0]:
            self._list_pairs(scores)
        self._shown = wanted
        if order == FAR and self.session.runs.in_view is not None:
            request = OrderClasses(self.session.place, self.session.runs.in_view, scores.on, order)
            self._show(scores, np.arange(len(scores.classes)))
            take = partial(self._take, wanted, scores)
            self.session.ask(request, take, priority=2, scope="order of classes")
        else:
            self._show(scores, ordered(scores.confusion, scores.classes, order))

    def _take(self, wanted: tuple[object, ...], scores: Scores, result: ClassesOrdered) -> None:
        if wanted == self._shown:
            self._show(scores, result.order)

    def _show(self, scores: Scores, order: NDArray[np.int64]) -> None:
        if not np.array_equal(order, self.order):
            self.matrix.choose_none()
        self.order = np.asarray(order)
        names = [scores.classes[k] for k in order.tolist()]
        self.matrix.show_counts(names, scores.confusion[np.ix_(order, order)])

    def _list_pairs(self, scores: Scores | None) -> None:
        pairs = scores.measures.confusions[:PAIRS] if scores is not None else ()
        self.pairs.blockSignals(True)
        self.pairs.clear()
        numbers = {name: k for k, name in enumerate(scores.classes)} if scores is not None else {}
        for pair in pairs:
            words = f"{thousands(pair.images)} of {thousands(pair.of)} {pair.true} were said to be {pair.predicted}"
            item = QListWidgetItem(words)
            item.setData(USER, (numbers[pair.true], numbers[pair.predicted]))
            self.pairs.addItem(item)
        self.pairs.setVisible(bool(pairs))
        self.pairs.setFixedHeight(LINE * min(SHOWN, max(1, len(pairs))) + 4)
        self.pairs.blockSignals(False)

    def _choose_pair(self, row: int) -> None:
        item = self.pairs.item(row)
        if item is not None:
            true, predicted = item.data(USER)
            at = {int(number): place for place, number in enumerate(self.order)}
            self.matrix.choose(at[true], at[predicted])

    def _choose(self, top: int, bottom: int, left: int, right: int) -> None:
        rows, columns = self.order[top : bottom + 1].tolist(), self.order[left : right + 1].tolist()
        self.chosen.emit(frozenset((true, predicted) for true in rows for predicted in columns))
