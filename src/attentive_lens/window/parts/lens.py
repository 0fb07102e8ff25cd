"""The lens: two copies of an image under one round window, inside which each shows its own map.

With Shift a region is drawn on the image.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, QVariantAnimation, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QWheelEvent,
)
from PyQt6.QtWidgets import QSizePolicy, QWidget

from attentive_lens.images.outlines import is_inside
from attentive_lens.window import look
from attentive_lens.window.parts.contour import contour, draw_contour
from attentive_lens.window.parts.pointing import READ, points
from attentive_lens.window.parts.proportions import fitted

FADE_MS = 140
"""Milliseconds in which a map comes over the image, where the desktop wants things to move."""
LEAST_REGION = 4
"""Pixels of a side from which a region is meant."""


class Lens(QWidget):
    """An image with a map under a round window.

    The window's centre is told in parts of the image's sides, its radius in parts of `side`, so that two of these can
    share them.

    Signals
    -------
    moved
        Centre (x, y) and radius, 0–1.
    whole_asked
        Space was pressed: show the map over the whole image, or not any more.
    hovered
        Where the mouse is, across and down, 0–1; −1 and −1 when it leaves.
    region_drawn
        Middle (x, y), width and height of a region drawn with Shift held, 0–1.
    """

    moved = pyqtSignal(float, float, float)
    whole_asked = pyqtSignal()
    hovered = pyqtSignal(float, float)
    region_drawn = pyqtSignal(float, float, float, float)

    def __init__(self, name: str) -> None:
        super().__init__()
        points(self, lambda at: self.area().contains(QPointF(at)), READ)
        self.setObjectName(name)
        self.setAccessibleName(name)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(QSize(180, 180))
        self.picture: QImage | None = None
        self.map: QImage | None = None
        self.outline = QPainterPath()
        self.whole = False
        self.strength = 1.0
        self._from: QPointF | None = None
        self._region: QRectF | None = None
        self._fade = QVariantAnimation(self)
        self._fade.setStartValue(0.0)
        self._fade.setEndValue(1.0)
        self._fade.setDuration(FADE_MS)
        self._fade.valueChanged.connect(self._fade_in)
        self.across, self.below, self.radius = 0.5, 0.5, 0.24

    def _fade_in(self, _: object) -> None:
        """A step of the fading: a method, which Qt forgets with the lens; a function would be called without it."""
        self.update()

    def show_object(self, covered: NDArray[np.float32] | None) -> None:
        """Draw a line about the object, see `outlines.coverage`, or none."""
        self.outline = contour(is_inside(covered)) if covered is not None else QPainterPath()
        self.update()

    def show_image(self, picture: QImage | None, map_: QImage | None) -> None:
        """Show another image and map; the lens stays where it is, and a map that is another fades in over the image."""
        other = map_ is not None and map_ != self.map
        self.picture, self.map = picture, map_
        if other and self.isVisible() and look.moves(self):
            self._fade.stop()
            self._fade.start()
        self.update()

    @property
    def here(self) -> float:
        """How much of the map is there already, 0–1."""
        running = self._fade.state() == QVariantAnimation.State.Running
        return float(self._fade.currentValue()) if running else 1.0

    def place_lens(self, x: float, y: float, radius: float) -> None:
        """Move the lens without telling anybody."""
        self.across, self.below, self.radius = x, y, radius
        self.update()

    def area(self) -> QRectF:
        """Where the image is drawn: at the top left, as large as it fits."""
        if self.picture is None:
            side = min(self.width(), self.height())
            return QRectF(0, 0, side, side)
        place = fitted(self.rect(), self.picture)
        return QRectF(0, 0, place.width(), place.height())

    @property
    def side(self) -> float:
        """Of a square as large as the image."""
        return math.sqrt(self.area().width() * self.area().height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """The image; inside the lens a paler one with the map at full strength; the lens's rim."""
        t = look.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        area = self.area()
        if self.picture is None:
            painter.fillRect(area, t.colour("well"))
            return
        painter.drawImage(area, self.picture)
        centre = QPointF(self.across * area.width(), self.below * area.height())
        rim = self.radius * self.side
        if self.map is not None:
            painter.save()
            if not self.whole:
                hole = QPainterPath()
                hole.addEllipse(centre, rim, rim)
                painter.setClipPath(hole)
            strength = self.strength * self.here
            painter.fillRect(area, t.colour("sheet", round(150 * strength)))
            painter.setOpacity(strength)
            painter.drawImage(area, self.map)
            painter.restore()
        if not self.outline.isEmpty():
            draw_contour(painter, self.outline, area)
        if not self.whole:
            painter.setClipRect(area)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(0, 0, 0, 26), 7))
            painter.drawEllipse(centre + QPointF(0, 1.5), rim + 1, rim + 1)
            painter.setPen(QPen(t.colour("sheet"), 5))
            painter.drawEllipse(centre, rim, rim)
            painter.setPen(QPen(t.colour("petrol" if self.hasFocus() else "ink"), 2))
            painter.drawEllipse(centre, rim, rim)
            painter.setClipping(False)
        if self._region is not None:
            painter.setPen(QPen(t.colour("ink"), 1, Qt.PenStyle.DashLine))
            painter.setBrush(t.colour("sheet", 90))
            painter.drawRect(self._region)

    def _move(self, x: float, y: float, radius: float) -> None:
        radius = min(max(radius, 0.06), 0.5)
        self.place_lens(min(max(x, 0.0), 1.0), min(max(y, 0.0), 1.0), radius)
        self.moved.emit(self.across, self.below, self.radius)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Take the lens to the mouse; with Shift begin a region."""
        if event is None or event.button() != Qt.MouseButton.LeftButton:
            return
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._from = event.position()
        else:
            self._take_to(event.position())

    def _take_to(self, at: QPointF) -> None:
        area = self.area()
        self._move(at.x() / area.width(), at.y() / area.height(), self.radius)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Drag the lens, or the region; tell where the mouse is."""
        if event is None:
            return
        at, area = event.position(), self.area()
        if self._from is not None:
            self._region = QRectF(self._from, at).normalized().intersected(area)
            self.update()
        elif event.buttons() & Qt.MouseButton.LeftButton:
            self._take_to(at)
        if area.contains(at):
            self.hovered.emit(at.x() / area.width(), at.y() / area.height())
        else:
            self.hovered.emit(-1.0, -1.0)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Tell of the region that was drawn."""
        region, wide, high = self._region, self.area().width(), self.area().height()
        self._from = self._region = None
        self.update()
        if event is not None and region is not None and min(region.width(), region.height()) >= LEAST_REGION:
            middle = region.center()
            self.region_drawn.emit(middle.x() / wide, middle.y() / high, region.width() / wide, region.height() / high)

    def leaveEvent(self, event: QEvent | None) -> None:
        """The mouse is nowhere."""
        self.hovered.emit(-1.0, -1.0)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """A larger or smaller lens."""
        if event is not None:
            self._move(self.across, self.below, self.radius * (1.1 if event.angleDelta().y() > 0 else 1 / 1.1))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows move the lens, + and − size it, Space shows the map over everything."""
        if event is None:
            return
        key, step = Qt.Key(event.key()), 0.03
        moves = {
            Qt.Key.Key_Left: (-step, 0.0),
            Qt.Key.Key_Right: (step, 0.0),
            Qt.Key.Key_Up: (0.0, -step),
            Qt.Key.Key_Down: (0.0, step),
        }
        if key in moves:
            self._move(self.across + moves[key][0], self.below + moves[key][1], self.radius)
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self._move(self.across, self.below, self.radius * 1.1)
        elif key == Qt.Key.Key_Minus:
            self._move(self.across, self.below, self.radius / 1.1)
        elif key == Qt.Key.Key_Space:
            self.whole_asked.emit()
        else:
            super().keyPressEvent(event)


def strongest_place(map_: NDArray[Any]) -> tuple[float, float]:
    """Where a map is strongest over a tenth of its shorter side: across and down, parts of the sides."""
    side = max(1, min(map_.shape) // 10)
    rows = map_[: map_.shape[0] // side * side, : map_.shape[1] // side * side]
    blocks = rows.reshape(rows.shape[0] // side, side, -1, side).mean(axis=(1, 3))
    row, column = divmod(int(blocks.argmax()), blocks.shape[1])
    return (column + 0.5) * side / map_.shape[1], (row + 0.5) * side / map_.shape[0]
