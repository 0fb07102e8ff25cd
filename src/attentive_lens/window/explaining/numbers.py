"""Numbers: a layer's weights, their gradient for the image and what the optimiser remembers, as a table."""

from __future__ import annotations

import csv
import io
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt
from PyQt6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QSpinBox,
    QTableView,
)

from attentive_lens.core.files import write_text
from attentive_lens.desk.requests.explaining import Explanation
from attentive_lens.desk.requests.numbers import LayerNumbers, NumbersSeen, WeightsWritten, WriteWeights
from attentive_lens.desk.requests.similarity import CompareLayers, LayersCompared
from attentive_lens.desk.results.exporting import write_numbers
from attentive_lens.errors import BadUsage, LensError
from attentive_lens.window import look
from attentive_lens.window.explaining.layer_panel import LayerPanel
from attentive_lens.window.parts.basics import button, chooser, label, vertical
from attentive_lens.window.parts.flow import Flow
from attentive_lens.window.parts.saving import save_values
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands

EVERY = -1
"""In place of a channel: all of them."""
MOST_COPIED = 100_000
"""Rows."""


class NumbersModel(QAbstractTableModel):
    """A row a number: where it stands in the array, then each array's value there."""

    def __init__(self) -> None:
        super().__init__()
        self.columns: tuple[tuple[str, NDArray[np.floating[Any]]], ...] = ()
        self.places: NDArray[np.int64] = np.zeros((0, 1), np.int64)
        self.axes: tuple[str, ...] = ()

    def show_numbers(self, seen: NumbersSeen | None, channel: int) -> None:
        """Those of one output channel, or all."""
        self.beginResetModel()
        self.columns, self.axes = (), ()
        self.places = np.zeros((0, 1), np.int64)
        if seen is not None:
            arrays = {seen.array: seen.values}
            if seen.gradient is not None:
                arrays["gradient"] = seen.gradient
            arrays |= {f"optimiser {name}": array for name, array in seen.optimiser.items()}
            self.axes = axes_of(seen.values.ndim)
            places = np.stack(np.unravel_index(np.arange(seen.values.size), seen.values.shape), axis=1)
            if channel != EVERY:
                places = places[places[:, -1] == channel]
            self.places = places.astype(np.int64)
            self.columns = tuple((name, array[tuple(places.T)]) for name, array in arrays.items())
        self.endResetModel()

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        """A row a number."""
        return 0 if parent is not None and parent.isValid() else len(self.places)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        """Where, then the values."""
        return 0 if parent is not None and parent.isValid() else len(self.axes) + len(self.columns)

    def headings(self) -> list[str]:
        """Of all columns."""
        return [*self.axes, *(name for name, _ in self.columns)]

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Names of the columns."""
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return self.headings()[section]
        return None

    def text(self, row: int, column: int, digits: str = ".6g") -> str:
        """What stands in a cell."""
        if column < len(self.axes):
            return str(int(self.places[row, column]))
        return format(float(self.columns[column - len(self.axes)][1][row]), digits)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Figures, to the right."""
        if role == Qt.ItemDataRole.DisplayRole:
            return self.text(index.row(), index.column()).replace("-", "\u2212")
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None

    def written(self, rows: list[int] | None = None) -> str:
        """The table as comma-separated values, all digits that single precision has."""
        out = io.StringIO()
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(self.headings())
        columns = range(self.columnCount())
        for row in range(self.rowCount()) if rows is None else rows:
            writer.writerow([self.text(row, column, ".9g") for column in columns])
        return out.getvalue()


class NumbersTable(QTableView):
    """A table whose selected rows are copied."""

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Ctrl+C copies."""
        model, clipboard = self.model(), QGuiApplication.clipboard()
        selection = self.selectionModel()
        copies = event is not None and event.matches(QKeySequence.StandardKey.Copy)
        if copies and isinstance(model, NumbersModel) and clipboard is not None and selection is not None:
            rows = sorted({index.row() for index in selection.selectedIndexes()})
            clipboard.setText(model.written(rows).replace(",", "\t"))
        else:
            super().keyPressEvent(event)


class NumbersPanel(LayerPanel):
    """Array and channel of the plate chosen, and the numbers."""

    title = "Numbers"
    tip = "The layer's weights, their gradient for this image, and what the optimiser remembers"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.seen: NumbersSeen | None = None
        self._run: int | None = None
        self._image = 0
        inside = vertical(self, spacing=4)
        row = Flow()
        self.node, self.array = (chooser(name, name) for name in ("numbers layer", "numbers array"))
        for box in (self.node, self.array):
            row.addWidget(box)
        self.node.activated.connect(lambda _: self._ask())
        self.array.activated.connect(lambda _: self._ask(self.array.currentText()))
        row.addWidget(label("channel", "faint"))
        self.channel = QSpinBox()
        self.channel.setObjectName("numbers channel")
        self.channel.setAccessibleName("output channel")
        self.channel.setFont(look.font())
        self.channel.setSpecialValueText("all")
        self.channel.setRange(EVERY, EVERY)
        self.channel.valueChanged.connect(lambda _: self._show())
        row.addWidget(self.channel)
        tip = "Copy the selected rows, or all, to paste into a table (Ctrl+C)."
        self.copy = button("Copy", "copy numbers", tip, self._copy)
        row.addWidget(self.copy)
        self.save = button("Save …", "save numbers", "Save as a table (CSV), or the whole array (NumPy).", self._save)
        row.addWidget(self.save)
        tip = "Every layer's weights in one NumPy archive, by layer and array."
        self.save_all = button("All weights …", "save all weights", tip, self._save_all)
        row.addWidget(self.save_all)
        inside.addLayout(row)
        self.says = label(role="faint", size=look.SMALL, name="numbers say")
        self.says.setWordWrap(True)
        inside.addWidget(self.says)
        self.compared: LayersCompared | None = None
        self.change = label(role="faint", size=look.SMALL, name="layer change")
        self.change.setWordWrap(True)
        self.change.setToolTip(
            "What training changed: how alike the layer's outputs are to what it began from (centred kernel alignment,"
            " 1: the same), and its weights."
        )
        inside.addWidget(self.change)
        self.model = NumbersModel()
        self.table = NumbersTable()
        self.table.setTabKeyNavigation(False)
        self.table.setObjectName("numbers table")
        self.table.setAccessibleName("raw numbers")
        self.table.setModel(self.model)
        self.table.setFont(look.font())
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        for header in (self.table.verticalHeader(),):
            if header is not None:
                header.hide()
                header.setDefaultSectionSize(22)
        inside.addWidget(self.table, 1)

    def changed(self, explanation: Explanation, same: bool) -> None:
        """Of another run other weights, of another image another gradient."""
        self._run, self._image = explanation.subject.run, explanation.image or 0
        if not same:
            self.seen = None
            self._show()
        if self.isVisible() and self.seen is None:
            self._ask(self.array.currentText())

    def plate_changed(self) -> None:
        """Its layers that have weights: a list where there are several."""
        known, plate = self.session.runs.facts(), self.plate
        weighted = {fact.name for fact in known[1] if fact.weights} if known is not None else set()
        names = [node for node in plate.nodes if node in weighted] if plate is not None else []
        if names == [self.node.itemText(k) for k in range(self.node.count())]:
            return
        self.node.clear()
        self.node.addItems(names)
        self.node.setVisible(len(names) > 1)
        self.seen = None
        self._show()
        if self.isVisible():
            self._ask()

    def _ask(self, array: str = "") -> None:
        if self._run is None or self.plate is None:
            return
        if not self.node.currentText():
            self.says.setText(f"{self.plate.name} has no weights: nothing in it is learned.")
            self.change.setText("")
            return
        before = self.seen.layer if self.seen is not None else self.node.currentText()
        array = array if before == self.node.currentText() else ""
        self._compare(self._run)
        request = LayerNumbers(self.session.place, self._run, self.node.currentText(), array, self._image)
        self.says.setText("Reading the numbers …")
        self.ask(request, self._take, self._fail, priority=2, scope="numbers")

    def _compare(self, run: int) -> None:
        """Say what training changed in the layer; asked once for all layers of a run."""
        if self.compared is not None and self.compared.run == run:
            self._show_change()
            return
        self.change.setText("Comparing the layers with what they began from …")
        request = CompareLayers(self.session.place, run)
        self.ask(request, self._take_compared, self.change.setText, priority=5, scope="compared")

    def _take_compared(self, compared: LayersCompared) -> None:
        self.compared = compared
        self._show_change()

    def _show_change(self) -> None:
        layers = self.compared.layers if self.compared is not None else ()
        words = (each.words() for each in layers if each.layer == self.node.currentText())
        self.change.setText(next(words, ""))

    def _fail(self, sentence: str) -> None:
        self.seen = None
        self._show()
        self.says.setText(sentence)

    def _take(self, seen: NumbersSeen) -> None:
        other = self.seen is None or (self.seen.layer, self.seen.array) != (seen.layer, seen.array)
        self.seen = seen
        self.array.clear()
        self.array.addItems(seen.arrays)
        self.array.setCurrentIndex(seen.arrays.index(seen.array))
        if other:
            self.channel.blockSignals(True)
            self.channel.setRange(EVERY, seen.values.shape[-1] - 1)
            self.channel.setValue(0)
            self.channel.blockSignals(False)
        self._show()

    def _show(self) -> None:
        self.model.show_numbers(self.seen, self.channel.value())
        for control in (self.copy, self.save):
            control.setEnabled(self.seen is not None)
        self.table.resizeColumnsToContents()
        self.says.setText(in_words(self.seen))

    def _copy(self) -> None:
        clipboard, rows = QGuiApplication.clipboard(), self.model.rowCount()
        if rows > MOST_COPIED:
            words = f"{thousands(rows)} rows are too many for the clipboard: choose a channel, or save them."
            self.session.message.emit(words, True)
        elif clipboard is not None:
            clipboard.setText(self.model.written().replace(",", "\t"))
            self.session.message.emit(f"{thousands(rows)} rows are in the clipboard.", False)

    def _save(self) -> None:
        if self.seen is None:
            return
        name = f"{self.seen.layer}-{self.seen.array}".replace(" ", "-")
        chosen, _ = QFileDialog.getSaveFileName(
            self, "Save the numbers", f"{name}.csv", "CSV (*.csv);;NumPy, all arrays (*.npz);;NumPy (*.npy)"
        )
        if chosen:
            self.write(Path(chosen))

    def _save_all(self) -> None:
        if self._run is None:
            return
        chosen, _ = QFileDialog.getSaveFileName(
            self, "Save all weights", f"run-{self._run}-weights.npz", "NumPy (*.npz)"
        )
        if chosen:
            file = Path(chosen)
            file = file if file.suffix.lower() == ".npz" else file.with_name(f"{file.name}.npz")
            request = WriteWeights(self.session.place, self._run, str(file))
            self.session.ask(request, self._tell_written, priority=3)

    def _tell_written(self, written: WeightsWritten) -> None:
        many = f"{thousands(written.numbers)} numbers in {thousands(written.arrays)} arrays"
        self.session.message.emit(f"Saved to {written.file}: {many}.", False)

    def write(self, file: Path) -> None:
        """The table as CSV, the whole array as a NumPy file, or with gradient and optimiser state, by the ending."""
        if self.seen is None:
            return
        try:
            kind = file.suffix.lower()
            if kind == ".npz":
                write_numbers(self.seen, file)
            elif kind == ".npy":
                save_values(self.seen.values, file)
            elif kind in (".csv", ""):
                write_text(file, self.model.written())
            else:
                why = f"«{kind}» is none of .csv, .npz and .npy"
                raise BadUsage(f"{file.name} was not written", why, "Give it one of these endings")
        except LensError as error:
            self.session.message.emit(str(error), True)
        else:
            self.session.message.emit(f"Saved to {file}.", False)


def axes_of(dimensions: int) -> tuple[str, ...]:
    """What the axes of an array of weights are called."""
    return {1: ("channel",), 2: ("input", "channel"), 4: ("row", "column", "input", "channel")}.get(
        dimensions, tuple(f"axis {k}" for k in range(dimensions))
    )


def in_words(seen: NumbersSeen | None) -> str:
    """What the columns are."""
    if seen is None:
        return ""
    words = [f"{'×'.join(map(str, seen.values.shape))}"]
    if seen.loss is not None:
        words.append(f"gradient of this image's loss, {seen.loss:.3g}")
    if seen.optimiser:
        words.append(f"optimiser after epoch {seen.epoch}")
    return " · ".join(words)
