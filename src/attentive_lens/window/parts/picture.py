"""A picture at a fixed size, enlarged without blurring what is there, and a strip of small ones."""

from __future__ import annotations

import math

from PyQt6.QtCore import QEvent, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from attentive_lens.window import look
from attentive_lens.window.parts.proportions import draw_picture, fitted


class PictureBox(QWidget):
    """One picture in its proportions within a square, perhaps with a box drawn on it."""

    def __init__(self, name: str, side: int) -> None:
        super().__init__()
        self.setObjectName(name)
        self.setAccessibleName(name)
        self.setFixedSize(side, side)
        self.picture: QImage | None = None
        self.box: QRectF | None = None

    def show_image(self, picture: QImage | None, box: QRectF | None = None) -> None:
        """Another picture; ``box`` in parts of its sides, 0–1."""
        self.picture, self.box = picture, box
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """The picture, or the empty well."""
        t = look.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        if self.picture is None:
            painter.fillRect(self.rect(), t.colour("well"))
            return
        place = draw_picture(painter, self.rect(), self.picture)
        if self.box is not None:
            left, top = place.left() + self.box.x() * place.width(), place.top() + self.box.y() * place.height()
            painter.setPen(QPen(t.colour("vermilion"), 2))
            painter.drawRect(QRectF(left, top, self.box.width() * place.width(), self.box.height() * place.height()))


class PixelBox(PictureBox):
    """A picture that tells which of its pixels the mouse is over.

    Signals
    -------
    hovered
        Column and row of the pixel; −1 and −1 when the mouse leaves.
    """

    hovered = pyqtSignal(int, int)

    def __init__(self, name: str, side: int) -> None:
        super().__init__(name, side)
        self.setMouseTracking(True)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Tell the pixel."""
        if event is not None and self.picture is not None:
            place, at = fitted(self.rect(), self.picture), event.position()
            across = math.floor((at.x() - place.left()) / place.width() * self.picture.width())
            down = math.floor((at.y() - place.top()) / place.height() * self.picture.height())
            if 0 <= across < self.picture.width() and 0 <= down < self.picture.height():
                self.hovered.emit(across, down)

    def leaveEvent(self, event: QEvent | None) -> None:
        """Tell that there is none."""
        self.hovered.emit(-1, -1)


class Strip(QWidget):
    """Small pictures in rows, as many as fit, each enlarged pixel by pixel."""

    def __init__(self, name: str, side: int = 34, rows: int = 1) -> None:
        super().__init__()
        self.setObjectName(name)
        self.setAccessibleName(name)
        self.pictures: list[QImage] = []
        self.side, self.rows = side, rows
        self.setFixedHeight(rows * (side + 4))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_pictures(self, pictures: list[QImage]) -> None:
        """Others."""
        self.pictures = pictures
        columns = max(1, (self.width() + 4) // (self.side + 4))
        self.setFixedHeight(max(1, min(self.rows, -(-len(pictures) // columns))) * (self.side + 4))
        self.update()

    def sizeHint(self) -> QSize:
        """Its rows."""
        return QSize(200, self.rows * (self.side + 4))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """From left to right, row by row; a note if not all fit."""
        t = look.theme
        painter = QPainter(self)
        columns = max(1, (self.width() + 4) // (self.side + 4))
        shown = self.pictures[: columns * self.rows]
        for k, picture in enumerate(shown):
            row, column = divmod(k, columns)
            box = QRectF(column * (self.side + 4), row * (self.side + 4), self.side, self.side)
            draw_picture(painter, box, picture)
            painter.setPen(t.colour("line"))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box)
