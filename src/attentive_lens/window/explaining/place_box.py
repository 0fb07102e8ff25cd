"""A picture on which a place is dragged."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from attentive_lens.window import look
from attentive_lens.window.parts.picture import PictureBox
from attentive_lens.window.parts.pointing import READ, points

STEP = 1 / 32
"""Part of the side that an arrow moves it by."""
STEPS = {
    Qt.Key.Key_Left: (-1, 0),
    Qt.Key.Key_Right: (1, 0),
    Qt.Key.Key_Up: (0, -1),
    Qt.Key.Key_Down: (0, 1),
}


class PlaceBox(PictureBox):
    """A picture on which a place is dragged.

    Signals
    -------
    moved
        Column and row of the place, parts of the side.
    """

    moved = pyqtSignal(float, float)

    def __init__(self, name: str, side: int) -> None:
        super().__init__(name, side)
        points(self, shape=READ)
        self.mark: QRectF | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """To where the mouse is."""
        self.mouseMoveEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """With the mouse."""
        if event is not None:
            at = QPointF(event.position().x() / self.width(), event.position().y() / self.height())
            self.moved.emit(min(max(at.x(), 0.0), 1.0), min(max(at.y(), 0.0), 1.0))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """The arrows move it."""
        across, down = STEPS.get(Qt.Key(event.key()), (0, 0)) if event is not None else (0, 0)
        if across or down:
            middle = self.mark.center() if self.mark is not None else QPointF(0.5, 0.5)
            at = middle + QPointF(across, down) * STEP
            self.moved.emit(min(max(at.x(), 0.0), 1.0), min(max(at.y(), 0.0), 1.0))
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """The picture, and the place as a thin frame."""
        super().paintEvent(event)
        if self.mark is not None and self.picture is not None:
            painter = QPainter(self)
            painter.setPen(QPen(look.theme.colour("ink"), 1, Qt.PenStyle.DashLine))
            side = self.width()
            box = self.mark
            painter.drawRect(QRectF(box.x() * side, box.y() * side, box.width() * side, box.height() * side))
