"""The bench: the network as glass plates on a rail, image at the left, answers at the right.

A plate's height follows the square root of its maps' side, its thickness the logarithm of their channels. ReLU and
its kin and normalisations are coatings of the plate before them, not plates of their own. Branches are raised tracks
with plates of their own, short cuts arch above the plates they pass. Frozen plates are frosted, a plate of unknown
shape is dashed, a faulty one is outlined in vermilion. In Explain the plates carry what each layer saw.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QFontMetricsF,
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
from attentive_lens.window.bench.geometry import CAPTIONS, DEEP, Geometry, least_height
from attentive_lens.window.bench.layout import Edge, Layout, layout_of
from attentive_lens.window.bench.plates import Plate
from attentive_lens.window.parts.pointing import points
from attentive_lens.window.words import shape, shortened

BETWEEN = 4
"""Pixels that are free between two names side by side."""
PLACE = 86
"""Pixels a plate takes along the rail."""
LINE, NAME_LINES = 15, 3
"""Pixels of a line of a name, and lines that it may take."""
LONGEST_WORD = 16
"""Letters of a word of a name that is never cut: a layer may be called anything."""
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
        points(self, lambda _: bool(self.plates))
        self.setObjectName(name)
        self.setAccessibleName("bench")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.plates: tuple[Plate, ...] = ()
        self.layout_: Layout = layout_of(())
        self.pictures: dict[str, QImage] = {}
        self.tints: dict[int, str] = {}
        self._geometry: Geometry | None = None
        self._lines: dict[tuple[str, int, bool, int], list[str]] = {}
        self.current: int | None = None
        self.tallest, self.place = tallest, float(place)
        self.setMinimumHeight(120)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def show_plates(self, plates: tuple[Plate, ...]) -> None:
        """Draw another network; pictures are taken off."""
        if plates != self.plates:
            self.plates, self.layout_, self._geometry, self._lines = plates, layout_of(plates), None, {}
        self.pictures = {}
        if self.current is not None and self.current >= len(plates):
            self.current = None
        self._fit()

    def _fit(self) -> None:
        """Ask for the room that every plate needs."""
        self.setMinimumWidth(int(self.layout_.column_count * self._least_step()))
        self.setMinimumHeight(least_height(self.layout_))
        self.updateGeometry()
        self.update()

    def _least_step(self) -> float:
        """Pixels that a place must have: those asked for, and room for the longest shape where shapes are told."""
        if self.place < NARROW:
            return self.place
        measure = QFontMetricsF(look.font(look.SMALL)).horizontalAdvance
        words = {shape(plate.shape) for plate in self.plates}
        words |= {word for plate in self.plates for word in plate.name.split() if len(word) <= LONGEST_WORD}
        return max([self.place, *(measure(text) + 4 for text in words)])

    def show_pictures(self, pictures: dict[str, QImage]) -> None:
        """Put pictures on the plates, by the node whose output they show."""
        self.pictures = pictures
        self.update()

    def show_tints(self, tints: dict[int, str]) -> None:
        """Tint plates in colours by their role, by place."""
        if tints != self.tints:
            self.tints = tints
            self.update()

    def sizeHint(self) -> QSize:
        """Room for every plate."""
        return QSize(int(self.layout_.column_count * self.place), self.tallest + CAPTIONS + 20)

    @property
    def geometry_(self) -> Geometry:
        """Where everything stands now."""
        size = (self.width(), self.height())
        if self._geometry is None or (self._geometry.width, self._geometry.height) != size:
            self._geometry = Geometry(self.plates, self.layout_, *size, self.tallest)
        return self._geometry

    def step(self) -> float:
        """Pixels from one column to the next."""
        return self.geometry_.step

    def centre(self, place: int) -> QPointF:
        """Where a plate's middle is."""
        return self.geometry_.centre(place)

    def plate_at(self, point: QPointF) -> int:
        """The plate nearest to a point."""
        return self.geometry_.plate_at(point)

    def form(self, place: int) -> tuple[QPolygonF, QRectF]:
        """The plate's glass and its edge."""
        return self.geometry_.form(place)

    def way(self, edge: Edge) -> tuple[QPainterPath, QPointF]:
        """How a source's output gets to a plate, and a point on it that is free of plates."""
        return self.geometry_.way(edge)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """The ways, the plates from left to right, their names and shapes."""
        if not self.plates:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, False)
        shown = QRectF(self.rect() if event is None else event.rect()).adjusted(-self.step(), 0, self.step(), 0)
        painter.setPen(QPen(look.theme.colour("faint"), 1.4))
        ways = self.geometry_.edges_within(shown)
        for edge in ways:
            painter.drawPath(self.way(edge)[0])
        for place in range(len(self.plates)):
            if shown.left() <= self.centre(place).x() <= shown.right():
                self._paint_plate(painter, place)
        self._paint_frost_line(painter)
        self.paint_over(painter, ways)
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(look.theme.colour("petrol"), 1))
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 3, 3)

    def paint_over(self, painter: QPainter, ways: Sequence[Edge]) -> None:
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
        tint = self.tints.get(place)
        if tint is not None:
            painter.setBrush(t.colour(tint, 90))
            painter.drawPolygon(glass)
        if plate.frozen:
            painter.setBrush(t.colour("petrol", 28))
            painter.drawPolygon(glass)
            painter.setBrush(t.colour("petrol", 120 if picture is None else 70))
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
        painter.setFont(look.font(look.SMALL))
        painter.setPen(t.colour("vermilion" if plate.faulty else "petrol" if chosen else "ink"))
        most = 1 if raised else NAME_LINES
        key = (plate.name, int(wide), chosen, most)
        if key not in self._lines:
            self._lines[key] = self._name_lines(
                plate.name, wide - BETWEEN, painter.fontMetrics().horizontalAdvance, most
            )
        lines = self._lines[key]
        top = middle.y() + self.geometry_.room(1) / 2 + 2 if raised else self.height() - CAPTIONS
        top += 0 if raised else LINE * (NAME_LINES - len(lines)) / 2
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
        """A name on as many lines, broken at blanks and hyphens, as it needs; a longer one as much as tells it."""
        lines = [""]
        for word in re.split(r"(?<=-)(?=\S)|\s+", name):
            longer = f"{lines[-1]}{'' if lines[-1].endswith('-') else ' '}{word}".strip()
            if lines[-1] and measure(longer) > width:
                lines.append(word)
            else:
                lines[-1] = longer
        if len(lines) <= most and all(measure(line) <= width for line in lines):
            return lines
        if most > 1 and measure(lines[-1]) <= width:
            return [*shortened([" ".join(lines[:-1])], width, measure), lines[-1]]
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
