"""One image made worse in every way and grade: what robustness will be measured with."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QPoint, QRectF, QSize, Qt
from PyQt6.QtGui import QHelpEvent, QImage, QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from attentive_lens.desk.requests.robustness import WorsePictures
from attentive_lens.window import look
from attentive_lens.window.parts.basics import to_image
from attentive_lens.window.parts.proportions import draw_picture

NAMES, GAP, LEAST, MOST = 112, 6, 36, 96
"""Pixels of a way's name, between pictures, and of a picture at least and at most."""


class WorseGrid(QWidget):
    """A row a way, from slight to strong."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("worse pictures")
        self.setAccessibleName("an image in every way and grade that is measured")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.shown: WorsePictures | None = None
        self._pictures: list[list[QImage]] = []

    def show_pictures(self, shown: WorsePictures | None) -> None:
        """Of another image, or of none."""
        self.shown = shown
        self._pictures = [[to_image(one) for one in way.pictures] for way in shown.ways] if shown is not None else []
        self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:
        """All of them, small."""
        return QSize(NAMES + 5 * (LEAST + GAP), max(1, len(self._pictures)) * (LEAST + GAP))

    @property
    def side(self) -> int:
        """Pixels of a picture: as large as there is room for all."""
        rows = max(1, len(self._pictures))
        columns = max([1, *map(len, self._pictures)])
        room = min((self.width() - NAMES) // columns, self.height() // rows) - GAP
        return max(LEAST, min(MOST, room))

    def box(self, row: int, column: int) -> QRectF:
        """Where a picture is."""
        step = self.side + GAP
        return QRectF(NAMES + column * step, row * step, self.side, self.side)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Names and pictures."""
        if self.shown is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.setFont(look.font(look.SMALL))
        painter.setPen(look.theme.colour("faint"))
        for row, way in enumerate(self.shown.ways):
            name = QRectF(0, self.box(row, 0).top(), NAMES - GAP, self.side)
            painter.drawText(name, Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextWordWrap, way.what)
            for column, picture in enumerate(self._pictures[row]):
                draw_picture(painter, self.box(row, column), picture)

    def words_at(self, point: QPoint) -> str:
        """The way and grade of the picture there; empty for none."""
        for row, way in enumerate(self.shown.ways if self.shown is not None else ()):
            for column, grade in enumerate(way.grades):
                if self.box(row, column).contains(point.toPointF()):
                    return f"{way.what} {grade:g} {way.unit}".strip()
        return ""

    def event(self, event: QEvent | None) -> bool:
        """Say which grade a picture is."""
        if isinstance(event, QHelpEvent):
            QToolTip.showText(event.globalPos(), self.words_at(event.pos()), self)
            return True
        return super().event(event)
