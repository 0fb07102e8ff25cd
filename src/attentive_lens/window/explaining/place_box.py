"""A picture on which a place is dragged."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen

from attentive_lens.window import look
from attentive_lens.window.parts.picture import PictureBox
from attentive_lens.window.parts.pointing import READ, points


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

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """The picture, and the place as a thin frame."""
        super().paintEvent(event)
        if self.mark is not None and self.picture is not None:
            painter = QPainter(self)
            painter.setPen(QPen(look.theme.colour("ink"), 1, Qt.PenStyle.DashLine))
            side = self.width()
            box = self.mark
            painter.drawRect(QRectF(box.x() * side, box.y() * side, box.width() * side, box.height() * side))
