"""The drawing of images that a network drew: a sheet of them, and perhaps dots over it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFontMetricsF, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from attentive_lens.desk.map_colours import class_colour
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.window import look
from attentive_lens.window.parts.basics import to_image
from attentive_lens.window.parts.pointing import points

GAP, DOT = 2, 7.0
"""Pixels between images, and of a dot."""
NAME, APART = 150, 8
"""Pixels of a row's name, at most, and between it and the images."""


class DrawnSheet(QWidget):
    """Images in rows, as large as there is room for all; one is chosen.

    Signals
    -------
    chosen
        Which image; −1 for none.
    pointed
        Where the mouse is on the sheet, in parts of its width and height from the top left; −1 and −1 when it leaves.
    """

    chosen = pyqtSignal(int)
    pointed = pyqtSignal(float, float)

    def __init__(self, name: str, words: str) -> None:
        super().__init__()
        points(self, lambda at: self.at(QPointF(at)) >= 0)
        self.setObjectName(name)
        self.setAccessibleName(words)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumSize(240, 220)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.pictures: list[QImage] = []
        self._fixed, self._together, self.gap, self.current = 0, 1, GAP, -1
        self.row_names: tuple[str, ...] = ()
        self.dots: NDArray[np.float64] = np.zeros((0, 2))
        self.classes: NDArray[np.int64] = np.zeros(0, np.int64)

    def show_images(
        self,
        images: Sequence[PixelArray],
        columns: int = 0,
        gap: int = GAP,
        together: int = 1,
        row_names: Sequence[str] = (),
    ) -> None:
        """Others of one size, H×W×C uint8; so many in a row, or as many as fill the room, not parting what is together.

        Rows may have names, which stand left of them.
        """
        self.row_names = tuple(row_names)
        self.pictures = [to_image(image) for image in images]
        self._fixed, self._together, self.gap = columns, together, gap
        self.dots, self.classes = np.zeros((0, 2)), np.zeros(0, np.int64)
        if self.current >= len(self.pictures):
            self.current = -1
        self.update()

    def show_dots(self, places: NDArray[np.float64], classes: NDArray[np.int64]) -> None:
        """Dots in the colours of their classes, N×2 in parts of the sheet."""
        self.dots, self.classes = places, classes
        self.update()

    def choose(self, place: int) -> None:
        """Mark an image."""
        self.current = place
        self.update()
        self.chosen.emit(place)

    @property
    def columns(self) -> int:
        """Images in a row: as were asked for, or as many as make them largest."""
        if self._fixed:
            return self._fixed
        choices = range(self._together, max(1, len(self.pictures)) + self._together, self._together)
        return max(choices, key=self._side_of, default=1)

    @property
    def rows(self) -> int:
        """Of images."""
        return max(1, -(-len(self.pictures) // self.columns))

    @property
    def left(self) -> float:
        """Pixels before the images, which rows' names take."""
        if not self.row_names:
            return 0.0
        metrics = QFontMetricsF(look.font(look.SMALL))
        return APART + min(NAME, max(metrics.horizontalAdvance(name) for name in self.row_names))

    def _name_rows(self, painter: QPainter) -> None:
        if not self.row_names:
            return
        painter.setFont(look.font(look.SMALL))
        painter.setPen(look.theme.colour("ink"))
        wide = self.left - APART
        metrics = QFontMetricsF(look.font(look.SMALL))
        for row, name in enumerate(self.row_names):
            place = QRectF(0, self.box(row * self.columns).top(), wide, self.side)
            words = metrics.elidedText(name, Qt.TextElideMode.ElideRight, wide + 1)
            painter.drawText(place, int(Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft), words)

    def _side_of(self, columns: int) -> float:
        """Pixels of an image's height with so many in a row."""
        wide = (self.width() - self.left + self.gap) / columns - self.gap
        rows = max(1, -(-len(self.pictures) // columns))
        return min(wide / self._proportion, (self.height() + self.gap) / rows - self.gap)

    @property
    def _proportion(self) -> float:
        """Width of an image in parts of its height; all have the same."""
        return self.pictures[0].width() / self.pictures[0].height() if self.pictures else 1.0

    @property
    def side(self) -> float:
        """Pixels of an image's height."""
        return max(4.0, self._side_of(self.columns))

    @property
    def _steps(self) -> tuple[float, float]:
        """Pixels from one image to the next, across and down."""
        side = self.side
        return side * self._proportion + self.gap, side + self.gap

    def area(self) -> QRectF:
        """The whole sheet."""
        across, down = self._steps
        return QRectF(self.left, 0, self.columns * across - self.gap, self.rows * down - self.gap)

    def box(self, place: int) -> QRectF:
        """Where an image is."""
        row, column = divmod(place, self.columns)
        across, down = self._steps
        return QRectF(self.left + column * across, row * down, across - self.gap, down - self.gap)

    def at(self, point: QPointF) -> int:
        """The image there; −1 for none."""
        if not self.pictures or not self.area().contains(point):
            return -1
        across, down = self._steps
        place = int(point.y() // down) * self.columns + int((point.x() - self.left) // across)
        return place if place < len(self.pictures) else -1

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Images, dots, and a ring about the one that is chosen."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        for place, picture in enumerate(self.pictures):
            painter.drawImage(self.box(place), picture)
        self._name_rows(painter)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = self.area()
        painter.setPen(QPen(look.theme.colour("sheet"), 1))
        for (across, down), number in zip(self.dots.tolist(), self.classes.tolist(), strict=True):
            painter.setBrush(QColor(class_colour(number)))
            at = QPointF(area.left() + across * area.width(), down * area.height())
            painter.drawEllipse(at, DOT / 2, DOT / 2)
        if 0 <= self.current < len(self.pictures):
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(look.theme.colour("petrol"), 3))
            painter.drawRect(self.box(self.current))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose."""
        if event is not None and (place := self.at(event.position())) >= 0:
            self.choose(place)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Tell where it points."""
        if event is None or not self.pictures:
            return
        area, point = self.area(), event.position()
        if area.contains(point):
            self.pointed.emit((point.x() - area.left()) / area.width(), point.y() / area.height())

    def leaveEvent(self, event: QEvent | None) -> None:
        """It points nowhere."""
        self.pointed.emit(-1.0, -1.0)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """The arrows choose."""
        moves = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -self.columns,
            Qt.Key.Key_Down: self.columns,
        }
        key = Qt.Key(event.key()) if event is not None else Qt.Key.Key_unknown
        if key not in moves or not self.pictures:
            super().keyPressEvent(event)
            return
        place = self.current + moves[key] if self.current >= 0 else 0
        if 0 <= place < len(self.pictures):
            self.choose(place)
