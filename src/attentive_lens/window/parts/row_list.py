"""A list whose rows draw themselves: what all such lists do with mouse and keys."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QRect, QRectF, Qt
from PyQt6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from attentive_lens.window import look
from attentive_lens.window.parts.pointing import points, rows


class RowList(QWidget):
    """Base of the lists: a click or the arrow keys put a row in view.

    Parameters
    ----------
    name, words : str
        For tests, and for those who hear it.
    height : int
        Pixels of a row.
    """

    def __init__(self, name: str, words: str, height: int) -> None:
        super().__init__()
        self._height = height
        points(self, rows(self.count, height))
        self.setObjectName(name)
        self.setAccessibleName(words)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def count(self) -> int:
        """Rows there are."""
        return 0

    def place_in_view(self) -> int | None:
        """The row in view."""
        return None

    def choose(self, place: int) -> None:
        """Put a row in view."""

    def tip(self, place: int) -> str:
        """What is said of a row where the mouse rests."""
        del place
        return ""

    def fit(self) -> None:
        """Be as tall as the rows are."""
        self.setFixedHeight(max(1, self.count()) * self._height)
        self.update()

    def row(self, place: int) -> QRect:
        """Where a row is."""
        return QRect(0, place * self._height, self.width(), self._height)

    def paint_focus(self, painter: QPainter) -> None:
        """A frame around the row in view, where keys go."""
        place = self.place_in_view()
        if self.hasFocus() and place is not None:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(look.theme.colour("petrol"))
            painter.drawRect(QRectF(self.row(place)).adjusted(0.5, 0.5, -0.5, -0.5))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Put it in view."""
        place = int(event.position().y()) // self._height if event is not None else -1
        if 0 <= place < self.count():
            self.choose(place)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Up and down."""
        steps = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}
        key = Qt.Key(event.key()) if event is not None else Qt.Key.Key_unknown
        at = self.place_in_view()
        if key in steps and at is not None:
            self.choose(min(max(at + steps[key], 0), self.count() - 1))
        else:
            super().keyPressEvent(event)

    def event(self, event: QEvent | None) -> bool:
        """What is said of a row, when the mouse rests."""
        if isinstance(event, QHelpEvent):
            place = event.pos().y() // self._height
            QToolTip.showText(event.globalPos(), self.tip(place) if 0 <= place < self.count() else "", self)
            return True
        return super().event(event)
