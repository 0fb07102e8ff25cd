"""The drawing of a map of the data: pictures where they do not overlap, dots for the others, and a lasso."""

from __future__ import annotations

from collections.abc import Sequence
from collections.abc import Set as AbstractSet

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QPolygonF, QWheelEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from attentive_lens.core.numbering import place_of
from attentive_lens.desk.images.map_layout import by_interest, disc, inside, into_unit, shown_apart, stamped
from attentive_lens.desk.map_colours import class_colour
from attentive_lens.desk.requests.mapping import DataMap
from attentive_lens.images.rows import Pixels
from attentive_lens.window import look
from attentive_lens.window.parts.basics import tint_image, to_image
from attentive_lens.window.parts.pointing import points
from attentive_lens.window.parts.proportions import fitted

ROOM, PICTURE = 36, 28
"""Pixels that an image claims, and of its picture; between them lie frame and ring."""
DOT, SMALL_DOT, MANY = 5.0, 3.5, 1000
"""Pixels of a dot; of one where there are more than so many in view."""
FADED = 70
"""Opacity, of 255, of what is not chosen while something is."""
ZOOM, MOST = 1.25, 60.0
STEP = 60
"""Pixels that an arrow key moves the map by."""
NEAR = 14.0
"""Pixels from the mouse within which a dot counts as under it."""


class ImageMap(QWidget):
    """Images at their places; the wheel zooms, the right button or Space held moves, the left draws a lasso.

    Signals
    -------
    chosen
        Numbers of images, in a lasso or under a click.
    opened
        Number of an image that was clicked twice.
    hovered
        Row of the image under the mouse; −1 for none.
    """

    chosen = pyqtSignal(tuple)
    opened = pyqtSignal(int)
    hovered = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        points(self, lambda at: self.row_at(QPointF(at)) >= 0)
        self.setObjectName("image map")
        self.setAccessibleName("map of the data")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(240, 220)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.result: DataMap | None = None
        self.pixels: Pixels | None = None
        self.hidden: NDArray[np.bool_] = np.zeros(0, np.bool_)
        self.trained: NDArray[np.bool_] = np.zeros(0, np.bool_)
        self.selection: frozenset[int] = frozenset()
        self.over = -1
        self.zoom = 1.0
        self.middle = QPointF(0.5, 0.5)
        self.lasso: list[QPointF] = []
        self._unit: NDArray[np.float64] = np.zeros((0, 2))
        self._pictured: list[int] | None = None
        self._pictures: dict[int, QPixmap] = {}
        self._held: QPointF | None = None

    def show_map(
        self, result: DataMap | None, pixels: Pixels | None, sets: Sequence[str], shown: AbstractSet[str]
    ) -> None:
        """Another map, or the same with other places.

        ``sets`` by the images' places; images of those that are not ``shown`` are neither drawn nor chosen.
        """
        before = self.result
        if result is None or before is None or not np.array_equal(before.images, result.images):
            self._pictures.clear()
            self.selection = frozenset()
            self.fit()
        self.result, self.pixels, self.over = result, pixels, -1
        names = [sets[place_of(number)] for number in result.images.tolist()] if result is not None else []
        self.hidden = np.array([name not in shown for name in names], np.bool_)
        self.trained = np.array([name == "training" for name in names], np.bool_)
        self._unit = into_unit(result.places) if result is not None and names else np.zeros((0, 2))
        self._pictured = None
        self.update()

    def fit(self) -> None:
        """The whole map."""
        self.zoom, self.middle = 1.0, QPointF(0.5, 0.5)
        self._pictured = None
        self.update()

    def select(self, numbers: frozenset[int]) -> None:
        """Mark images by their numbers."""
        self.selection = numbers
        self.update()

    @property
    def _side(self) -> float:
        """Pixels of the whole map."""
        return max(1.0, float(min(self.width(), self.height()))) * self.zoom

    def at(self) -> NDArray[np.float64]:
        """Where the images lie in the widget, N×2 pixels."""
        corner = (self.width() / 2 - self.middle.x() * self._side, self.height() / 2 - self.middle.y() * self._side)
        return np.asarray(self._unit * self._side + np.array(corner))

    def pictured(self) -> list[int]:
        """Rows of the images that are drawn as pictures; where they are shown does not change them, the zoom does."""
        if self._pictured is None:
            self._pictured = []
            if self.result is not None:
                order = [k for k in by_interest(self.result.wrong) if not self.hidden[k]]
                self._pictured = shown_apart(self._unit * self._side, order, ROOM)
        return self._pictured

    def in_view(self) -> NDArray[np.int64]:
        """Rows of the images that can be seen."""
        places = self.at()
        within = (places >= 0).all(axis=1) & (places[:, 0] < self.width()) & (places[:, 1] < self.height())
        return np.flatnonzero(within & ~self.hidden)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Dots, then pictures, then the lasso."""
        if self.result is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        places, pictured = self.at(), set(self.pictured())
        seen = self.in_view()
        dots = seen[[k not in pictured for k in seen.tolist()]] if len(seen) else seen
        size = SMALL_DOT if len(dots) > MANY else DOT
        chosen = np.isin(self.result.images, list(self.selection)) | (not self.selection)
        for part, alpha in ((dots[~chosen[dots]], FADED), (dots[chosen[dots]], 255)):
            self._paint_dots(painter, places, part, size, alpha)
        for k in (row for row in reversed(self.pictured()) if row != self.over):
            painter.setOpacity(1.0 if chosen[k] else FADED / 255)
            self._paint_picture(painter, k, QPointF(*places[k].tolist()))
        painter.setOpacity(1.0)
        if self.over >= 0:
            self._paint_picture(painter, self.over, QPointF(*places[self.over].tolist()), 2.4)
        if self.lasso:
            painter.setPen(QPen(look.theme.colour("petrol"), 1.5, Qt.PenStyle.DashLine))
            painter.setBrush(look.theme.colour("petrol", 28))
            painter.drawPolygon(QPolygonF(self.lasso))

    def _paint_dots(
        self, painter: QPainter, places: NDArray[np.float64], rows: NDArray[np.int64], size: float, alpha: int
    ) -> None:
        """Dots of a size in the colours of their classes, rings about wrong ones."""
        result = self.result
        if result is None or not len(rows):
            return
        ratio = self.devicePixelRatioF()
        shape = (max(1, round(self.height() * ratio)), max(1, round(self.width() * ratio)))
        points, of_class = places[rows] * ratio, result.true[rows]
        colours = np.array([_rgba(self._colour(number), alpha) for number in range(int(of_class.max()) + 1)], np.uint8)
        self._draw(painter, stamped(shape, points, colours[of_class], disc(size * ratio)), ratio)
        wrong = points[result.wrong[rows]]
        if len(wrong):
            red = np.tile(np.array(_rgba(look.theme.colour("vermilion"), alpha), np.uint8), (len(wrong), 1))
            self._draw(painter, stamped(shape, wrong, red, disc((size + 5) * ratio, 1.3 * ratio)), ratio)

    @staticmethod
    def _draw(painter: QPainter, layer: NDArray[np.uint8], ratio: float) -> None:
        picture = tint_image(layer)
        picture.setDevicePixelRatio(ratio)
        painter.drawImage(QPointF(0, 0), picture)

    def _colour(self, number: int) -> QColor:
        colour = QColor(class_colour(number))
        return colour.lighter(135) if look.theme is look.DARK else colour

    def _paint_picture(self, painter: QPainter, k: int, at: QPointF, grown: float = 1.0) -> None:
        result, x, y = self.result, at.x(), at.y()
        if result is None or not (-ROOM < x < self.width() + ROOM and -ROOM < y < self.height() + ROOM):
            return
        side = PICTURE * grown
        box = QRectF(x - side / 2, y - side / 2, side, side)
        picture = self._picture(k)
        place = fitted(box, picture)
        painter.drawPixmap(place, picture, QRectF())
        painter.setBrush(Qt.BrushStyle.NoBrush)
        style = Qt.PenStyle.SolidLine if self.trained[k] else Qt.PenStyle.DotLine
        painter.setPen(QPen(self._colour(int(result.true[k])), 2, style))
        painter.drawRect(place)
        if result.wrong[k]:
            painter.setPen(QPen(look.theme.colour("vermilion"), 2.5))
            painter.drawEllipse(at, side / 2 + 3, side / 2 + 3)

    def _picture(self, k: int) -> QPixmap:
        if k not in self._pictures:
            number = int(self.result.images[k]) if self.result is not None else 0
            if self.pixels is None or not 0 < number <= len(self.pixels):
                self._pictures[k] = QPixmap(1, 1)
                self._pictures[k].fill(look.theme.colour("well"))
            else:
                self._pictures[k] = QPixmap.fromImage(to_image(self.pixels[place_of(number)]))
        return self._pictures[k]

    def row_at(self, point: QPointF) -> int:
        """Row of the image at a point, pictures before dots; −1 for none."""
        if self.result is None or not len(self._unit):
            return -1
        gaps = np.abs(self.at() - np.array([point.x(), point.y()]))
        rows = np.array(self.pictured(), np.int64)
        hit = rows[(gaps[rows] <= PICTURE / 2).all(axis=1)] if len(rows) else rows
        if len(hit):
            return int(hit[0])
        away = np.where(self.hidden, np.inf, np.hypot(*gaps.T))
        best = int(away.argmin())
        return best if away[best] <= NEAR else -1

    def zoom_by(self, factor: float, about: QPointF | None = None) -> None:
        """Larger or smaller about a point that stays where it is."""
        about = about or QPointF(self.width() / 2, self.height() / 2)
        before = self._side
        offset = QPointF(about.x() - self.width() / 2, about.y() - self.height() / 2)
        self.zoom = min(max(self.zoom * factor, 1.0), MOST)
        self.middle += offset * (1 / before - 1 / self._side)
        if self.zoom == 1.0:
            self.middle = QPointF(0.5, 0.5)
        self._pictured = None
        self.update()

    def move_by(self, across: float, down: float) -> None:
        """Move what is seen by pixels."""
        self.middle -= QPointF(across, down) / self._side
        self.middle = QPointF(min(max(self.middle.x(), 0.0), 1.0), min(max(self.middle.y(), 0.0), 1.0))
        self.update()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Zoom about the mouse."""
        if event is not None:
            self.zoom_by(ZOOM ** (event.angleDelta().y() / 120), event.position())
            event.accept()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Begin a lasso, or take hold of the map."""
        if event is None:
            return
        self.setFocus()
        if event.button() == Qt.MouseButton.LeftButton:
            self.lasso = [event.position()]
        else:
            self._held = event.position()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Go on with the lasso, move the map, or tell what is under the mouse."""
        if event is None:
            return
        if self._held is not None:
            moved = event.position() - self._held
            self._held = event.position()
            self.move_by(moved.x(), moved.y())
        elif self.lasso:
            self.lasso.append(event.position())
            self.update()
        else:
            self._hover(self.row_at(event.position()))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Choose what the lasso holds, or the one image clicked."""
        self._held = None
        if event is None or not self.lasso:
            return
        lasso, self.lasso = np.array([(point.x(), point.y()) for point in self.lasso]), []
        if np.ptp(lasso, axis=0).max() < 4:
            row = self.row_at(event.position())
            rows = [row] if row >= 0 else []
        else:
            rows = np.flatnonzero(inside(lasso, self.at()) & ~self.hidden).tolist()
        adding = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        self.choose_rows(rows, adding)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """Open the image."""
        row = self.row_at(event.position()) if event is not None else -1
        if row >= 0 and self.result is not None:
            self.opened.emit(int(self.result.images[row]))

    def leaveEvent(self, event: QEvent | None) -> None:
        """Nothing is under the mouse."""
        self._hover(-1)

    def _hover(self, row: int) -> None:
        if row != self.over:
            self.over = row
            self.hovered.emit(row)
            self.update()

    def choose_rows(self, rows: list[int], adding: bool = False) -> None:
        """Choose images by their rows, or add them to those chosen."""
        if self.result is None:
            return
        numbers = frozenset(int(self.result.images[k]) for k in rows)
        self.selection = self.selection | numbers if adding else numbers
        self.update()
        self.chosen.emit(tuple(sorted(self.selection)))

    def choose_in_view(self) -> None:
        """Choose all that can be seen."""
        self.choose_rows(self.in_view().tolist())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows move, + and − zoom, 0 shows the whole, Return chooses what is in view."""
        moves = {
            Qt.Key.Key_Left: (STEP, 0),
            Qt.Key.Key_Right: (-STEP, 0),
            Qt.Key.Key_Up: (0, STEP),
            Qt.Key.Key_Down: (0, -STEP),
        }
        key = Qt.Key(event.key()) if event is not None else Qt.Key.Key_unknown
        if key in moves:
            self.move_by(*moves[key])
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
            self.zoom_by(1 / ZOOM if key == Qt.Key.Key_Minus else ZOOM)
        elif key == Qt.Key.Key_0:
            self.fit()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.choose_in_view()
        else:
            super().keyPressEvent(event)


def _rgba(colour: QColor, alpha: int) -> tuple[int, int, int, int]:
    return colour.red(), colour.green(), colour.blue(), alpha
