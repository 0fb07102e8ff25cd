"""The images as a table, for those who would rather read than look."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetrics, QImage, QKeyEvent
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableView

from attentive_lens.window import look
from attentive_lens.window.parts.basics import to_image
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands

COLUMNS = ("image", "file", "class", "set", "flag", "size", "brightness", "contrast", "sharpness", "said")
NUMBERS = frozenset({"image", "size", "brightness", "contrast", "sharpness"})
ROW = 30


class _Model(QAbstractTableModel):
    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.places: NDArray[np.int64] = np.zeros(0, np.int64)
        self.predicted = session.scores.answers.predicted
        self.columns: tuple[str, ...] = COLUMNS

    def show(self, places: NDArray[np.int64]) -> None:
        """Other images."""
        self.beginResetModel()
        self.places, self.predicted = places, self.session.scores.answers.predicted
        self.columns = (*COLUMNS, *self.session.images.library.columns)
        self.endResetModel()

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        """A row an image."""
        return len(self.places)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        """Those of every image, and those of tables beside them."""
        return len(self.columns)

    def headerData(self, section: int, side: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Names of the columns."""
        if role == Qt.ItemDataRole.DisplayRole and side == Qt.Orientation.Horizontal:
            return self.columns[section]
        return None

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Words, and a small picture beside the number."""
        if index.column() >= len(COLUMNS):
            words = self.session.images.library.columns.get(self.columns[index.column()], {})
            number = self.session.images.collection.rows[int(self.places[index.row()])].number
            return words.get(number, "") if role == Qt.ItemDataRole.DisplayRole else None
        name, place = COLUMNS[index.column()], int(self.places[index.row()])
        if role == Qt.ItemDataRole.DisplayRole:
            return self._words(name, place)
        if role == Qt.ItemDataRole.DecorationRole and name == "image":
            return self._picture(place)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if name in NUMBERS else Qt.AlignmentFlag.AlignLeft
            return side | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ToolTipRole and name == "file":
            return self.session.images.collection.rows[place].file
        return None

    def _picture(self, place: int) -> QImage | None:
        pixels = self.session.images.pixels
        if pixels is None:
            return None
        return to_image(pixels[place]).scaled(24, 24, Qt.AspectRatioMode.KeepAspectRatio)

    def _words(self, name: str, place: int) -> str:
        collection = self.session.images.collection
        row = collection.rows[place]
        measured = self.session.images.measures.get(name)
        if measured is not None:
            return f"{measured[place]:.2f}" if np.isfinite(measured[place]) else ""
        answer = self.predicted.get(row.number)
        words = {
            "image": thousands(row.number),
            "file": row.name,
            "class": collection.classes[row.label],
            "set": collection.sets[place],
            "flag": "flag" if row.flagged else "",
            "size": f"{row.width}×{row.height}",
            "said": f"{answer.name} {answer.probability:.2f}" if answer else "",
        }
        return words.get(name, "")


class ImageTable(QTableView):
    """One row an image, in the order and under the filters of the sheet.

    Signals
    -------
    selected
        Place of the current image.
    opened
        Place of the image to open.
    """

    selected = pyqtSignal(int)
    opened = pyqtSignal(int)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("image table")
        self.setTabKeyNavigation(False)
        self.setAccessibleName("images as a table")
        self.rows_ = _Model(session)
        self.setModel(self.rows_)
        self.setFont(look.font())
        self.setShowGrid(False)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        down, across = self.verticalHeader(), self.horizontalHeader()
        if down is not None and across is not None:
            down.hide()
            down.setDefaultSectionSize(ROW)
            across.setFont(look.font(look.SMALL))
            across.setHighlightSections(False)
            across.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
            across.setStretchLastSection(True)
        self._fit_columns()
        self.doubleClicked.connect(lambda index: self.opened.emit(int(self.rows_.places[index.row()])))
        selection = self.selectionModel()
        if selection is not None:
            selection.currentRowChanged.connect(self._moved)

    def show_places(self, places: NDArray[np.int64]) -> None:
        """Other images."""
        self.rows_.show(places)
        self._fit_columns()

    def _fit_columns(self) -> None:
        """Every column as wide as its head, its numbers and the class names need; files as wide as usual."""
        metrics = QFontMetrics(look.font())
        heads = QFontMetrics(look.font(look.SMALL))
        collection = self.rows_.session.images.collection
        longest = max((metrics.horizontalAdvance(name) for name in collection.classes), default=0)
        content = {
            "image": 34 + metrics.horizontalAdvance(thousands(len(collection.rows))),
            "file": 130,
            "class": min(150, longest),
            "set": metrics.horizontalAdvance("validation"),
            "size": metrics.horizontalAdvance("0000×0000"),
            "said": min(150, longest) + metrics.horizontalAdvance(" 0.00"),
        }
        for k, name in enumerate(self.rows_.columns):
            self.setColumnWidth(k, max(heads.horizontalAdvance(name), content.get(name, 0)) + 22)

    @property
    def selection(self) -> tuple[int, ...]:
        """Places of the selected images."""
        model = self.selectionModel()
        rows = model.selectedRows() if model is not None else []
        return tuple(int(self.rows_.places[index.row()]) for index in rows)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Letters and Space decide about images rather than search."""
        if event is not None and event.text() and event.text().isprintable():
            event.ignore()
        else:
            super().keyPressEvent(event)

    def _moved(self, now: QModelIndex, _: QModelIndex) -> None:
        if now.isValid():
            self.selected.emit(int(self.rows_.places[now.row()]))
