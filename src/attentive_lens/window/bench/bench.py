"""The bench: the network as glass plates on a rail, image at the left, answers at the right.

A plate's height follows the square root of its maps' side, its thickness the logarithm of their channels. ReLU and
its kin and normalisations are coatings of the plate before them, not plates of their own. Branches are raised tracks
with plates of their own, short cuts arch above the plates they pass. Frozen plates are frosted, a plate of unknown
shape is dashed, a faulty one is outlined in vermilion. In Explain the plates carry what each layer saw.
"""

from __future__ import annotations

import math
from collections.abc import Callable

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QHelpEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPolygonF,
    QTransform,
)
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from attentive_lens.window import look
from attentive_lens.window.bench.layout import Edge, Layout, layout_of
from attentive_lens.window.bench.plates import Plate
from attentive_lens.window.words import shape, shortened

PLACE, CAPTIONS = 86, 52
"""Pixels a plate takes along the rail, and names under it."""
DEEP = 1.8
"""Depth of a folded block's plates, in its first one's."""
ARCH, LEAST_BAND = 13, 12
"""Pixels from one short cut's track to the next, and above all plates."""
RAISED, LEAST_RAISED = 100, 64
"""Pixels of a raised track with its plates and names, where there is room, and at least."""
LINE = 15
"""Pixels of a line of a name."""
NARROW = 54
"""Pixels of a place below which only the chosen plate is named."""


class Bench(QWidget):
    """The plates; a click or the arrow keys choose one.

    Signals
    -------
    chosen
        Place of the plate, 0 the image.
    """

    chosen = pyqtSignal(int)

    def __init__(self, name: str, tallest: int = 190, place: int = PLACE) -> None:
        super().__init__()
        self.setObjectName(name)
        self.setAccessibleName("bench")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.plates: tuple[Plate, ...] = ()
        self.layout_: Layout = layout_of(())
        self.pictures: dict[str, QImage] = {}
        self.current: int | None = None
        self.tallest, self.place = tallest, float(place)
        self.setMinimumHeight(120)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def show_plates(self, plates: tuple[Plate, ...]) -> None:
        """Draw another network; pictures are taken off."""
        if plates != self.plates:
            self.plates, self.layout_ = plates, layout_of(plates)
        self.pictures = {}
        if self.current is not None and self.current >= len(plates):
            self.current = None
        self._fit()

    def _fit(self) -> None:
        """Ask for the room that every plate needs."""
        self.setMinimumWidth(int(self.layout_.column_count * self.place))
        raised = LEAST_RAISED * (self.layout_.lane_count - 1)
        self.setMinimumHeight(int(self._band() + 120 + raised))
        self.updateGeometry()
        self.update()

    def show_pictures(self, pictures: dict[str, QImage]) -> None:
        """Put pictures on the plates, by the node whose output they show."""
        self.pictures = pictures
        self.update()

    def sizeHint(self) -> QSize:
        """Room for every plate."""
        return QSize(int(self.layout_.column_count * self.place), self.tallest + CAPTIONS + 20)

    def step(self) -> float:
        """Pixels from one column to the next."""
        return self.width() / max(1, self.layout_.column_count)

    def _band(self) -> float:
        """Pixels above all plates, where short cuts pass."""
        return LEAST_BAND + ARCH * self.layout_.level_count

    def _raised(self) -> float:
        """Pixels of one raised track."""
        lanes = self.layout_.lane_count - 1
        room = self.height() - CAPTIONS - self._band()
        return min(RAISED, max(LEAST_RAISED, room * 0.6 / lanes)) if lanes else 0.0

    def _room(self, lane: int) -> float:
        """Pixels that a plate of a lane may be tall."""
        if lane:
            return self._raised() - 26
        raised = self._raised() * (self.layout_.lane_count - 1)
        return min(self.tallest, self.height() - CAPTIONS - self._band() - raised - 4)

    def middle(self, lane: int) -> float:
        """Height of a lane's rail."""
        base = self.height() - CAPTIONS
        raised = self._raised()
        top = self._band() + raised * (self.layout_.lane_count - 1)
        return (top + base) / 2 if not lane else top - raised * (lane - 0.5) - 9

    def centre(self, place: int) -> QPointF:
        """Where a plate's middle is."""
        return QPointF(self.step() * (self.layout_.columns[place] + 0.5), self.middle(self.layout_.lanes[place]))

    def plate_at(self, point: QPointF) -> int:
        """The plate of a column that is nearest to a point; the nearest of all where the column is empty."""
        return min(
            range(len(self.plates)),
            key=lambda k: (abs(self.centre(k).x() - point.x()) > self.step() / 2, self._distance(k, point)),
        )

    def _distance(self, place: int, point: QPointF) -> float:
        away = self.centre(place) - point
        return math.hypot(away.x(), away.y())

    def form(self, place: int) -> tuple[QPolygonF, QRectF]:
        """The plate's glass, turned a little, and its edge."""
        plate, lane = self.plates[place], self.layout_.lanes[place]
        room = self._room(lane)
        first = math.sqrt(max(1, self.plates[0].shape[0]))
        flat = len(plate.shape) == 1
        part = 0.34 if flat or not plate.shape else max(0.16, min(1.0, math.sqrt(plate.shape[0]) / first))
        height = max(14.0, room * part / 1.09)
        depth = 5.0 if flat or not plate.shape else math.log2(1 + plate.shape[-1]) * 2.4
        depth = min(depth, self.step() * 0.3)
        deep = depth * DEEP + 4 if plate.folded else depth
        wide = 8.0 if flat else max(8.0, min(height * 0.42, self.step() - deep - 14))
        centre = self.centre(place)
        x = centre.x() - (wide + deep) / 2
        up = 3.0 if flat else wide * 0.30
        top, bottom = centre.y() - height / 2, centre.y() + height / 2
        glass = QPolygonF(
            [
                QPointF(x, top + up / 2),
                QPointF(x + wide, top - up / 2),
                QPointF(x + wide, bottom - up / 2),
                QPointF(x, bottom + up / 2),
            ]
        )
        return glass, QRectF(x + wide, top - up / 2, depth, height)

    def way(self, edge: Edge) -> tuple[QPainterPath, QPointF]:
        """How a source's output gets to a plate, and a point on it that is free of plates."""
        (source, place), layout = edge, self.layout_
        a, b = self.centre(source), self.centre(place)
        path = QPainterPath(a)
        level = layout.arches.get(edge)
        if level is not None:
            y = self._above(edge, level)
            half = self.step() * 0.36
            path.cubicTo(QPointF(a.x() + half * 0.4, a.y()), QPointF(a.x() + half * 0.2, y), QPointF(a.x() + half, y))
            path.lineTo(QPointF(b.x() - half, y))
            path.cubicTo(QPointF(b.x() - half * 0.2, y), QPointF(b.x() - half * 0.4, b.y()), b)
            return path, QPointF((a.x() + b.x()) / 2, y)
        if layout.lanes[source] == layout.lanes[place]:
            path.lineTo(b)
            return path, QPointF(b.x() - self.step() / 2, b.y())
        rising = layout.lanes[place] > layout.lanes[source]
        half = self.step() * 0.5
        if rising:
            turn = QPointF(a.x() + self.step(), b.y())
            path.cubicTo(QPointF(a.x() + half, a.y()), QPointF(a.x() + half * 0.9, b.y()), turn)
            path.lineTo(b)
            return path, path.pointAtPercent(path.percentAtLength(path.length() * 0.5))
        turn = QPointF(b.x() - self.step(), a.y())
        path.lineTo(turn)
        path.cubicTo(QPointF(b.x() - half * 0.9, a.y()), QPointF(b.x() - half, b.y()), b)
        length = path.length()
        return path, path.pointAtPercent(path.percentAtLength(max(0.0, length - self.step() * 0.6)))

    def _above(self, edge: Edge, level: int) -> float:
        """Height of a short cut's track: above every plate it passes, and inside the bench."""
        first, last = (self.layout_.columns[place] for place in edge)
        passed = [k for k, column in enumerate(self.layout_.columns) if first <= column <= last]
        top = min(self.form(k)[1].top() for k in passed)
        return max(5.0, top - 12 - ARCH * (level - 1))

    def edges(self) -> list[Edge]:
        """Every way from one plate to another."""
        return [(source, place) for place, plate in enumerate(self.plates) for source in plate.sources]

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """The ways, the plates from left to right, their names and shapes."""
        if not self.plates:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, False)
        shown = QRectF(self.rect() if event is None else event.rect()).adjusted(-self.step(), 0, self.step(), 0)
        painter.setPen(QPen(look.theme.colour("faint"), 1.4))
        for edge in self.edges():
            if self.centre(edge[0]).x() <= shown.right() and self.centre(edge[1]).x() >= shown.left():
                painter.drawPath(self.way(edge)[0])
        for place in range(len(self.plates)):
            if shown.left() <= self.centre(place).x() <= shown.right():
                self._paint_plate(painter, place)
        self._paint_frost_line(painter)
        self.paint_over(painter)
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(look.theme.colour("petrol"), 1))
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 3, 3)

    def paint_over(self, painter: QPainter) -> None:
        """What a bench that can be edited draws on top."""

    def is_chosen(self, place: int) -> bool:
        """Whether a plate is drawn as chosen."""
        return place == self.current

    def _paint_plate(self, painter: QPainter, place: int) -> None:
        t, plate = look.theme, self.plates[place]
        glass, edge = self.form(place)
        chosen = self.is_chosen(place)
        colour = "vermilion" if plate.faulty else "petrol" if chosen else "ink"
        outline = QPen(t.colour(colour), 2 if chosen or plate.faulty else 1)
        if plate.holes:
            outline.setStyle(Qt.PenStyle.DotLine)
        elif not plate.shape:
            outline.setStyle(Qt.PenStyle.DashLine)
        painter.setPen(outline)
        painter.setBrush(t.colour("sheet"))
        painter.drawPolygon(glass)
        picture = self.pictures.get(plate.output)
        if picture is not None:
            self._paint_picture(painter, glass, picture)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolygon(glass)
        elif plate.frozen:
            painter.setBrush(t.colour("petrol", 28))
            painter.drawPolygon(glass)
            painter.setBrush(t.colour("petrol", 120))
            brush = painter.brush()
            brush.setStyle(Qt.BrushStyle.BDiagPattern)
            painter.setBrush(brush)
            painter.drawPolygon(glass)
        painter.setBrush(t.colour("plate_side"))
        painter.drawRect(edge)
        if plate.folded:
            slice_ = edge.width() * (DEEP - 1) / 2
            for k in (0, 1):
                left = edge.right() + 2 + k * (slice_ + 2)
                painter.drawRect(QRectF(left, edge.top(), slice_, edge.height()))
        if plate.coats:
            painter.fillRect(QRectF(edge.right() - 2, edge.top() + 1, 2, edge.height() - 2), t.colour("petrol"))
        if self.step() >= NARROW or place == self.current or (plate.faulty and self.current is None):
            self._paint_captions(painter, place, chosen)

    def _paint_picture(self, painter: QPainter, glass: QPolygonF, picture: QImage) -> None:
        """The picture on the slanted glass."""
        corner, right, _, below = (glass.at(k) for k in range(4))
        along, down = (right - corner) / picture.width(), (below - corner) / picture.height()
        turn = QTransform(along.x(), along.y(), down.x(), down.y(), corner.x(), corner.y())
        painter.save()
        painter.setTransform(turn, True)
        painter.drawImage(0, 0, picture)
        painter.restore()

    def _paint_captions(self, painter: QPainter, place: int, chosen: bool) -> None:
        t, plate = look.theme, self.plates[place]
        raised = self.layout_.lanes[place] > 0
        wide = self.step() if self.step() >= NARROW else NARROW * 1.6
        middle = self.centre(place)
        painter.setFont(look.font(look.SMALL, chosen))
        painter.setPen(t.colour("vermilion" if plate.faulty else "ink"))
        lines = self._name_lines(plate.name, wide - 4, painter.fontMetrics().horizontalAdvance, 1 if raised else 2)
        top = middle.y() + self._room(1) / 2 + 2 if raised else self.height() - CAPTIONS
        top += 0 if raised else LINE * (2 - len(lines)) / 2
        if raised:
            long = painter.fontMetrics().horizontalAdvance(lines[0])
            painter.fillRect(QRectF(middle.x() - long / 2 - 2, top, long + 4, LINE), t.colour("sheet", 225))
        for line in lines:
            painter.drawText(QRectF(middle.x() - wide / 2, top, wide, LINE), Qt.AlignmentFlag.AlignCenter, line)
            top += LINE
        if not raised:
            painter.setFont(look.font(look.SMALL))
            painter.setPen(t.colour("faint"))
            size = shape(plate.shape) if plate.shape else "not known"
            box = QRectF(middle.x() - wide / 2, self.height() - LINE - 3, wide, LINE)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, size)

    def _name_lines(self, name: str, width: float, measure: Callable[[str], float], most: int) -> list[str]:
        """A name on as many lines, broken at a blank, as it needs; what is still too long keeps what tells it apart."""
        if most < 2 or measure(name) <= width:
            return shortened([name], width, measure, [each.name for each in self.plates])
        breaks = [k for k, letter in enumerate(name) if letter == " "]
        fitting = [k for k in breaks if measure(name[:k]) <= width and measure(name[k + 1 :]) <= width]
        if fitting:
            return [name[: fitting[-1]], name[fitting[-1] + 1 :]]
        if breaks and measure(name[breaks[-1] + 1 :]) <= width:
            return [*shortened([name[: breaks[-1]]], width, measure), name[breaks[-1] + 1 :]]
        return shortened([name], width, measure, [each.name for each in self.plates])

    def frost_column(self) -> int:
        """Column behind the last frozen plate, 0 for none: the frost line stands at its left edge."""
        frozen = [self.layout_.columns[k] + 1 for k, plate in enumerate(self.plates) if plate.frozen]
        return max(frozen, default=0)

    def _paint_frost_line(self, painter: QPainter) -> None:
        column = self.frost_column()
        if column:
            self.paint_frost(painter, self.step() * column)

    def paint_frost(self, painter: QPainter, x: float) -> None:
        """The frost line at a place along the rail."""
        painter.setPen(QPen(look.theme.colour("petrol"), 1.6, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(x, 4), QPointF(x, self.height() - CAPTIONS))
        painter.setFont(look.font(look.SMALL))
        painter.drawText(QPointF(x + 6, 14), "frost line")

    def choose(self, place: int) -> None:
        """Choose a plate."""
        self.current = place
        self.update()
        self.chosen.emit(place)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose the plate under the mouse."""
        if event is not None and self.plates:
            self.choose(self.plate_at(event.position()))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right move along the network, up and down to a branch beside."""
        key = None if event is None else Qt.Key(event.key())
        place = None if key is None or not self.plates else self.neighbour(key)
        if place is None:
            super().keyPressEvent(event)
        else:
            self.choose(place)

    def neighbour(self, key: Qt.Key) -> int | None:
        """The plate that an arrow key leads to; None for another key."""
        current = self.current
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            place = 0 if current is None else current + (1 if key == Qt.Key.Key_Right else -1)
            return min(max(place, 0), len(self.plates) - 1)
        if key not in (Qt.Key.Key_Up, Qt.Key.Key_Down) or current is None:
            return None
        lane = self.layout_.lanes[current] + (1 if key == Qt.Key.Key_Up else -1)
        others = [k for k, other in enumerate(self.layout_.lanes) if other == lane]
        column = self.layout_.columns[current]
        return min(others, key=lambda k: abs(self.layout_.columns[k] - column)) if others else current

    def event(self, event: QEvent | None) -> bool:
        """A tooltip over each plate: what it is, what it costs, how far it sees."""
        if isinstance(event, QHelpEvent) and self.plates:
            plate = self.plates[self.plate_at(QPointF(event.pos()))]
            QToolTip.showText(event.globalPos(), f"{plate.idea}\n{plate.facts}".strip(), self)
            return True
        return super().event(event)
