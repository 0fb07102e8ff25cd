"""A picture in full size that is moved, enlarged and drawn on."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF, QWheelEvent
from PyQt6.QtWidgets import QWidget

from attentive_lens.images.outlines import Polygon
from attentive_lens.window import look
from attentive_lens.window.parts.contour import contour, draw_contour
from attentive_lens.window.parts.pointing import HOLD, points

MOST = 64.0
"""Screen pixels for one of the image, at most."""
RECTANGLE, POLYGON = SHAPES = ("rectangle", "polygon")
NEAR = 8
"""Pixels within which a press means a corner that is there."""


class Canvas(QWidget):
    """A picture that the wheel enlarges about the mouse and the mouse drags.

    Signals
    -------
    hovered
        Column and row of the pixel under the mouse.
    dragged
        The mouse was moved with its right button down: across and down, in parts of the canvas.
    drawn
        Corners of a shape that was finished, as a list of (across, down) in the picture's pixels.
    """

    hovered = pyqtSignal(int, int)
    dragged = pyqtSignal(float, float)
    drawn = pyqtSignal(list)

    def __init__(self) -> None:
        super().__init__()
        points(self, lambda _: self.draws == "", HOLD)
        self.setObjectName("full picture")
        self.setAccessibleName("the image in full size")
        self.picture: QImage | None = None
        self.scale = 1.0
        self.corner = QPointF(0, 0)
        self._held: QPointF | None = None
        self._turned: QPointF | None = None
        self.draws = ""
        """What a press begins: one of `SHAPES`; empty where it takes hold of the picture."""
        self.corners: list[QPointF] = []
        self._at = QPointF()
        self._outline = QPainterPath()

    def draw(self, shape: str) -> None:
        """Begin to draw one of `SHAPES`, or stop drawing."""
        self.draws, self.corners = shape, []
        self.setCursor(Qt.CursorShape.CrossCursor if shape else Qt.CursorShape.OpenHandCursor)
        self.update()

    def show_outline(self, polygons: Sequence[Polygon], mask: NDArray[np.bool_] | None, step: int = 1) -> None:
        """A line about the object: polygons in the file's pixels, and a mask, of which every ``step`` is shown."""
        self._outline = contour(mask) if mask is not None else QPainterPath()
        if self.picture is not None:
            wide, high = self.picture.width() * step, self.picture.height() * step
            for polygon in polygons:
                corners = [QPointF(x / wide, y / high) for x, y in polygon]
                self._outline.addPolygon(QPolygonF([*corners, corners[0]]))
        self.update()

    def finish(self) -> None:
        """Close the shape in hand, if it is one; a press begins another."""
        corners, self.corners = self.corners, []
        self.update()
        if len(corners) >= 3:
            self.drawn.emit([(corner.x(), corner.y()) for corner in corners])

    def undraw(self) -> bool:
        """Take the last corner back; whether there was one."""
        there = bool(self.corners)
        self.corners = self.corners[:-1] if self.draws == POLYGON else []
        self.update()
        return there

    def _inside(self, at: QPointF) -> QPointF:
        """A place on the screen as one in the picture, no farther than its edge."""
        place = (at - self.corner) / self.scale
        wide, high = (self.picture.width(), self.picture.height()) if self.picture is not None else (1, 1)
        return QPointF(min(max(place.x(), 0.0), wide), min(max(place.y(), 0.0), high))

    def show_picture(self, picture: QImage | None) -> None:
        """Another picture, as large as fits."""
        self.picture = picture
        self.fit()

    def redraw(self, picture: QImage) -> None:
        """The same picture, shown otherwise."""
        self.picture = picture
        self.update()

    def fit(self) -> None:
        """As large as fits, in the middle."""
        if self.picture is not None:
            whole = min(self.width() / self.picture.width(), self.height() / self.picture.height())
            self._place(min(whole, MOST))
        self.update()

    def _place(self, scale: float) -> None:
        if self.picture is not None:
            self.scale = scale
            across = (self.width() - self.picture.width() * scale) / 2
            self.corner = QPointF(across, (self.height() - self.picture.height() * scale) / 2)

    def zoom(self, factor: float, about: QPointF | None = None) -> None:
        """Larger or smaller about a point that stays where it is."""
        at = about or QPointF(self.width() / 2, self.height() / 2)
        scale = min(max(self.scale * factor, 0.02), MOST)
        self.corner = at - (at - self.corner) * (scale / self.scale)
        self.scale = scale
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """The picture; enlarged, its pixels stay squares."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), look.theme.colour("well"))
        if self.picture is not None:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, self.scale < 1)
            wide, high = self.picture.width() * self.scale, self.picture.height() * self.scale
            area = QRectF(self.corner.x(), self.corner.y(), wide, high)
            painter.drawImage(area, self.picture)
            draw_contour(painter, self._outline, area)
            self._paint_shape(painter)

    def _paint_shape(self, painter: QPainter) -> None:
        """What is being drawn, and a square on each corner."""
        if not self.corners:
            return
        places = [self.corner + corner * self.scale for corner in self.corners]
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        closing = [self._at] if self.draws == POLYGON else []
        for role, width, fill in (("sheet", 3.0, 60), ("petrol", 1.5, 0)):
            painter.setPen(QPen(look.theme.colour(role), width))
            painter.setBrush(look.theme.colour("sheet", fill))
            painter.drawPolygon(QPolygonF([*places, *closing]))
        painter.setBrush(look.theme.colour("petrol"))
        for place in places:
            painter.drawRect(QRectF(place.x() - 2.5, place.y() - 2.5, 5, 5))

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Larger and smaller."""
        if event is not None:
            self.zoom(1.25 if event.angleDelta().y() > 0 else 0.8, event.position())

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Take hold of it."""
        if event is None:
            return
        if event.button() == Qt.MouseButton.RightButton:
            self._turned = event.position()
        elif self.draws and self.picture is not None:
            self._begin(event.position())
        else:
            self._held = event.position()

    def _begin(self, at: QPointF) -> None:
        """A rectangle's first corner, or a polygon's next one; near the first one closes it."""
        place = self._inside(at)
        self._at = at
        if self.draws == RECTANGLE:
            self.corners = [place] * 4
        elif len(self.corners) >= 3 and (at - (self.corner + self.corners[0] * self.scale)).manhattanLength() < NEAR:
            self.finish()
        else:
            self.corners = [*self.corners, place]
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """Close the polygon."""
        if event is not None and self.draws == POLYGON:
            self.finish()
        else:
            self.mousePressEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Let it go; a rectangle is finished."""
        self._held = self._turned = None
        if self.draws == RECTANGLE and self.corners:
            first, third = self.corners[0], self.corners[2]
            if min(abs(third.x() - first.x()), abs(third.y() - first.y())) * self.scale < NEAR / 2:
                self.corners = []  # a click, not a rectangle
            self.finish()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Drag it, and tell the pixel."""
        if event is None or self.picture is None:
            return
        self._at = event.position()
        if self.corners:
            if self.draws == RECTANGLE:
                first, third = self.corners[0], self._inside(self._at)
                self.corners = [first, QPointF(third.x(), first.y()), third, QPointF(first.x(), third.y())]
            self.update()
        if self._turned is not None:
            moved = event.position() - self._turned
            self._turned = event.position()
            self.dragged.emit(moved.x() / max(1, self.width()), moved.y() / max(1, self.height()))
            return
        if self._held is not None:
            self.corner += event.position() - self._held
            self._held = event.position()
            self.update()
        at = (event.position() - self.corner) / self.scale
        inside = 0 <= at.x() < self.picture.width() and 0 <= at.y() < self.picture.height()
        self.hovered.emit(int(at.x()) if inside else -1, int(at.y()) if inside else -1)
