"""Tables as all stages have them: rows without a grid, heads in small letters, cells sorted by values of their own."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QAbstractItemView, QTableWidget, QTableWidgetItem

from attentive_lens.window import look

ROW = 26
"""Pixels of a row."""


class Cell(QTableWidgetItem):
    """A cell that is sorted by a value of its own; without one it comes last. Words stand at the left."""

    def __init__(self, words: str, value: float | str | None) -> None:
        super().__init__(words)
        self.value = value
        self.setFlags(Qt.ItemFlag.ItemIsSelectable | Qt.ItemFlag.ItemIsEnabled)
        self.setTextAlignment(side_of(isinstance(value, str)))

    def __lt__(self, other: QTableWidgetItem) -> bool:
        theirs = other.value if isinstance(other, Cell) else None
        if self.value is None or theirs is None:
            return self.value is not None
        if isinstance(self.value, str) or isinstance(theirs, str):
            return str(self.value) < str(theirs)
        return self.value < theirs


def side_of(words: bool) -> Qt.AlignmentFlag:
    """Where words stand, and where figures do."""
    side = Qt.AlignmentFlag.AlignLeft if words else Qt.AlignmentFlag.AlignRight
    return side | Qt.AlignmentFlag.AlignVCenter


def table(name: str, shown: str, tip: str, one_row: bool = False) -> QTableWidget:
    """An empty table whose rows are selected, one at a time if so wanted.

    Parameters
    ----------
    name, shown, tip : str
        For tests, for those who hear it, and what can be done with it.
    one_row : bool
        Whether no more than one row is selected.
    """
    made = QTableWidget()
    made.setTabKeyNavigation(False)  # Tab goes on, the arrows go about in it
    made.setObjectName(name)
    made.setAccessibleName(shown)
    made.setToolTip(tip)
    made.setFont(look.font())
    made.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    if one_row:
        made.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
    made.setShowGrid(False)
    for header in (made.verticalHeader(), made.horizontalHeader()):
        if header is not None:
            header.setFont(look.font(look.SMALL))
    down = made.verticalHeader()
    if down is not None:
        down.hide()
        down.setDefaultSectionSize(ROW)
    return made


def fit_height(of: QTableWidget) -> None:
    """Let it be no taller than its rows, so that pictures take the rest."""
    across, down = of.horizontalHeader(), of.verticalHeader()
    if across is not None and down is not None:
        of.setMaximumHeight(across.sizeHint().height() + down.length() + 2 * of.frameWidth() + 2)


def head(words: str, is_words: bool, tip: str = "") -> QTableWidgetItem:
    """A column's head."""
    item = QTableWidgetItem(words)
    item.setTextAlignment(side_of(is_words))
    item.setToolTip(tip)
    return item
