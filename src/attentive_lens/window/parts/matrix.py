"""The confusion matrix: rows true, columns said; a cell is a door to its images."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, Qt, pyqtSignal
from PyQt6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent
from PyQt6.QtWidgets import QToolTip

from attentive_lens.window.parts.matrix_drawing import ZOOM, MatrixDrawing
from attentive_lens.window.parts.matrix_places import RATE
from attentive_lens.window.words import percent


class ConfusionMatrix(MatrixDrawing):
    """A matrix whose cells can be chosen.

    A click chooses a cell, a name its row or column; dragging, or Shift with a click or an arrow, a rectangle. R, C and
    A choose the row, the column, all. + and − zoom, 0 fits the card again.

    Signals
    -------
    chosen
        First and last row, first and last column, of the cells.
    """

    chosen = pyqtSignal(int, int, int, int)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("confusion matrix")
        self.setAccessibleName("confusion matrix")
        self._anchor: tuple[int, int] | None = None
        self._dragged = False

    def choose(self, true: int, predicted: int, extend: bool = False, tell: bool = True) -> None:
        """Choose a cell, or all from the one chosen before to it, and bring it into sight."""
        if not extend or self._anchor is None:
            self._anchor = (true, predicted)
        self.current = (true, predicted)
        rows, columns = sorted((self._anchor[0], true)), sorted((self._anchor[1], predicted))
        self.area = (rows[0], rows[1], columns[0], columns[1])
        (left, top), cell = self._edges(), self.box(true, predicted)
        ends = (
            (self.horizontalScrollBar(), cell.left() - left, cell.right() - self._port().width() + RATE),
            (self.verticalScrollBar(), cell.top() - top, cell.bottom() - self._port().height()),
        )
        for bar, before, after in ends:
            if bar is not None:
                bar.setValue(bar.value() + round(min(0.0, before) + max(0.0, after)))
        self._port().update()
        if tell:
            self.chosen.emit(*self.area)

    def choose_area(self, rows: tuple[int, int], columns: tuple[int, int]) -> None:
        """Choose a rectangle by its first and last row and column."""
        self.area, self.current, self._anchor = (*rows, *columns), (rows[0], columns[0]), (rows[0], columns[0])
        self._port().update()
        self.chosen.emit(*self.area)

    def choose_row(self, true: int) -> None:
        """Choose all cells of a true class."""
        self.choose_area((true, true), (0, len(self.classes) - 1))

    def choose_column(self, predicted: int) -> None:
        """Choose all cells of a class said."""
        self.choose_area((0, len(self.classes) - 1), (predicted, predicted))

    def choose_none(self) -> None:
        """No cell is chosen."""
        self.current = self.area = self._anchor = None
        self._port().update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose the cell, with Shift as far as it, or the row or column of a name."""
        if event is None or not self.classes:
            return
        cell, p, (left, top) = self.cell_at(event.pos()), self.places(), self._edges()
        if cell is not None:
            self.choose(*cell, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier), tell=False)
            self._dragged = True
            return
        row, column = int((event.pos().y() - p.top) // p.tall), int((event.pos().x() - p.left) // p.wide)
        if event.pos().x() < left and event.pos().y() >= top and 0 <= row < len(self.classes):
            self.choose_row(row)
        elif event.pos().y() < top and event.pos().x() >= left and 0 <= column < len(self.classes):
            self.choose_column(column)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Tell what was chosen."""
        if self._dragged and self.area is not None:
            self.chosen.emit(*self.area)
        self._dragged = False

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """A hand over cells, the names of the cell under it strong at the edges; held, a rectangle up to it."""
        over = self.cell_at(event.pos()) if event is not None else None
        self._port().setCursor(Qt.CursorShape.ArrowCursor if over is None else Qt.CursorShape.PointingHandCursor)
        if over != self.over:
            self.over = over
            if self._dragged and over is not None:
                self.choose(*over, extend=True, tell=False)
            self._port().update()

    def leaveEvent(self, event: QEvent | None) -> None:
        """No cell is under the mouse."""
        self.over = None
        self._port().update()

    def viewportEvent(self, event: QEvent | None) -> bool:
        """A tooltip in words over each cell."""
        if isinstance(event, QHelpEvent):
            cell = self.cell_at(event.pos())
            if cell is not None:
                true, predicted = cell
                count, of = int(self.counts[true, predicted]), int(self._rows[true])
                words = f"{count} of {of} of «{self.classes[true]}» said to be «{self.classes[predicted]}»"
                if self._columns[predicted]:
                    words += f", {percent(count / self._columns[predicted])} of all that were said to be it"
                QToolTip.showText(event.globalPos(), words, self)
            return True
        return super().viewportEvent(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows move from cell to cell; +, − and 0 zoom."""
        moves = {
            Qt.Key.Key_Up: (-1, 0),
            Qt.Key.Key_Down: (1, 0),
            Qt.Key.Key_Left: (0, -1),
            Qt.Key.Key_Right: (0, 1),
        }
        zooms = {Qt.Key.Key_Plus: ZOOM, Qt.Key.Key_Equal: ZOOM, Qt.Key.Key_Minus: 1 / ZOOM, Qt.Key.Key_0: 0.0}
        key = Qt.Key(event.key()) if event is not None else Qt.Key.Key_unknown
        if self.classes and key in zooms:
            centre = self.box(*self.current).center() if self.current is not None else None
            self.zoom_by(zooms[key], centre)
        elif self.classes and key in moves:
            true, predicted = self.current or (0, 0)
            last = len(self.classes) - 1
            down, along = moves[key]
            extend = event is not None and bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self.choose(min(max(true + down, 0), last), min(max(predicted + along, 0), last), extend)
        elif self.classes and key in (Qt.Key.Key_R, Qt.Key.Key_C, Qt.Key.Key_A):
            true, predicted = self.current or (0, 0)
            every = (0, len(self.classes) - 1)
            rows, columns = (true, true) if key == Qt.Key.Key_R else every, every
            self.choose_area(rows, (predicted, predicted) if key == Qt.Key.Key_C else columns)
        else:
            super().keyPressEvent(event)
