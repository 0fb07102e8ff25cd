"""The bench as it is edited: gaps that take new layers, plates that move, tracks that are drawn, a frost line to drag.

It only tells what is meant; who listens changes the network, and the bench is drawn anew.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

from PyQt6.QtCore import QPoint, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPen, QWheelEvent
from PyQt6.QtWidgets import QMenu

from attentive_lens.window import look
from attentive_lens.window.bench.bench import Bench
from attentive_lens.window.bench.geometry import CAPTIONS
from attentive_lens.window.bench.layout import Edge
from attentive_lens.window.bench.plates import Plate
from attentive_lens.window.network.verbs import ALT, CONTROL, READING, VERBS

NEAR = 10
"""Pixels within which the mouse holds a gap or a handle."""
FAR = 6
"""Pixels that a plate is moved before it is a drag."""
LEAST_PLACE, MOST_PLACE, ZOOM = 12.0, 240.0, 1.25


class EditableBench(Bench):
    """A bench whose network can be changed with the mouse and the keyboard.

    Signals
    -------
    done
        What is to be done with the chosen plates: a word of `VERBS`.
    insert_asked
        Nodes between which a layer is to be put, the second empty for «all behind the first», and where on the bench.
    connected
        Nodes: the second is to stand after the first too.
    dropped
        Nodes between which the chosen plates are to stand.
    frost_moved
        Plate up to which all is to be frozen; 0 for none.
    picture_asked
        The bench is to be saved as a picture.
    zoomed
        The plates' places are wider or narrower, about this point of the bench, by this factor.
    """

    done = pyqtSignal(str)
    insert_asked = pyqtSignal(str, str, QPoint)
    connected = pyqtSignal(str, str)
    dropped = pyqtSignal(str, str)
    frost_moved = pyqtSignal(int)
    picture_asked = pyqtSignal()
    zoomed = pyqtSignal(float, float)

    def __init__(self, name: str, tallest: int, place: int) -> None:
        super().__init__(name, tallest, place)
        self.setMouseTracking(True)
        self.changeable = True
        self.anchor: int | None = None
        self.connecting: int | None = None
        self._gap: Edge | None = None
        self._mouse = QPointF()
        self._pressed: QPointF | None = None
        self._dragging = self._frosting = False

    def show_plates(self, plates: tuple[Plate, ...]) -> None:
        """Draw another network; what was under way is given up."""
        self.connecting, self._gap, self._dragging, self._frosting = None, None, False, False
        super().show_plates(plates)
        if self.anchor is not None and self.anchor >= len(plates):
            self.anchor = None

    def selection(self) -> tuple[int, ...]:
        """Places of the chosen plates, without the image."""
        if self.current is None:
            return ()
        anchor = self.current if self.anchor is None else self.anchor
        first, last = sorted((anchor, self.current))
        return tuple(range(max(1, first), min(last + 1, len(self.plates))))

    def chosen_nodes(self) -> tuple[str, ...]:
        """Nodes of the chosen plates, in order."""
        return tuple(node for place in self.selection() for node in self.plates[place].nodes)

    def is_chosen(self, place: int) -> bool:
        """Whether a plate is among those chosen."""
        return place == self.current or place in self.selection()

    def choose(self, place: int, further: bool = False) -> None:
        """Choose a plate; ``further``: and all from the one chosen first."""
        self.anchor = (self.current if self.anchor is None else self.anchor) if further else None
        super().choose(place)

    def gap(self, edge: Edge) -> QPointF:
        """Where a new layer is put on a way."""
        return self.way(edge)[1]

    def ends(self, edge: Edge) -> tuple[str, str]:
        """The nodes at both ends of a way: the first that the plate at its end begins with."""
        return self.plates[edge[0]].output, self.plates[edge[1]].nodes[0]

    def handle(self) -> QPointF | None:
        """The knob from which a track is drawn to another plate; none for several plates."""
        if not self.changeable or self.current is None or len(self.selection()) > 1:
            return None
        _, edge = self.form(self.current)
        return QPointF(edge.right() + 6, edge.top() + 2)

    def _gap_at(self, point: QPointF) -> Edge | None:
        about = QRectF(point.x() - self.step(), 0, 2 * self.step(), self.height())
        near = [(math.hypot(*_xy(self.gap(edge) - point)), edge) for edge in self.geometry_.edges_within(about)]
        distance, edge = min(near, default=(math.inf, None))
        return edge if distance <= NEAR else None

    def _at_frost(self, point: QPointF) -> bool:
        return abs(point.x() - self._frost_x()) <= 4 and point.y() < self.height() - CAPTIONS

    def _frost_x(self) -> float:
        return self.step() * max(1, self.frost_column())

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose a plate, open a gap, take the knob or the frost line."""
        if event is None or not self.plates:
            return
        point = event.position()
        if event.button() != Qt.MouseButton.LeftButton:
            if event.button() == Qt.MouseButton.RightButton and self.plate_at(point) not in self.selection():
                self.choose(self.plate_at(point))
            return
        if self.connecting is not None:
            self._connect_to(self.plate_at(point))
            return
        handle = self.handle()
        if handle is not None and math.hypot(*_xy(handle - point)) <= NEAR:
            self.connecting, self._pressed = self.current, point
            self.update()
            return
        edge = self._gap_at(point) if self.changeable else None
        if edge is not None:
            self.insert_asked.emit(*self.ends(edge), self.gap(edge).toPoint())
            return
        if self.changeable and self._at_frost(point):
            self._frosting = True
            return
        self._pressed = point
        further = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        place = self.plate_at(point)
        if further or place not in self.selection() or len(self.selection()) == 1:
            self.choose(place, further)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Show what a click would do; drag what is held."""
        if event is None or not self.plates:
            return
        self._mouse = event.position()
        if self._pressed is not None and self.changeable and self.connecting is None:
            self._dragging = self._dragging or math.hypot(*_xy(self._mouse - self._pressed)) > FAR
        gap = self._gap_at(self._mouse) if self.changeable and not self._frosting else None
        over_frost = self.changeable and (self._frosting or (gap is None and self._at_frost(self._mouse)))
        self.setCursor(
            Qt.CursorShape.SplitHCursor
            if over_frost
            else Qt.CursorShape.ClosedHandCursor
            if self._dragging
            else Qt.CursorShape.PointingHandCursor
        )
        if gap != self._gap or self._dragging or self._frosting or self.connecting is not None:
            self._gap = gap
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Let go of what is held."""
        if event is None or not self.plates:
            return
        point, pressed, dragging, frosting = event.position(), self._pressed, self._dragging, self._frosting
        self._pressed, self._dragging, self._frosting = None, False, False
        if self.connecting is not None and pressed is not None:
            if math.hypot(*_xy(point - pressed)) > FAR:
                self._connect_to(self.plate_at(point))
        elif frosting:
            self.frost_moved.emit(self._frozen_up_to(point.x()))
        elif dragging:
            edge = self._gap_at(point) or self._nearest_gap(point)
            if edge is not None and edge[0] not in self.selection() and edge[1] not in self.selection():
                self.dropped.emit(*self.ends(edge))
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """A block folds or unfolds."""
        if event is not None and event.button() == Qt.MouseButton.LeftButton and self._gap_at(event.position()) is None:
            self.done.emit("fold")

    def _nearest_gap(self, point: QPointF) -> Edge | None:
        """The gap on a plate's own lane that a plate dropped here belongs to."""
        near = [e for e in self.geometry_.edges if abs(self.gap(e).x() - point.x()) <= self.step() * 0.6]
        return min(near, key=lambda e: math.hypot(*_xy(self.gap(e) - point)), default=None)

    def _frozen_up_to(self, x: float) -> int:
        """The last plate of the rail that is left of a place; 0 for none."""
        column = round(x / self.step()) - 1
        lanes, columns = self.layout_.lanes, self.layout_.columns
        before = [k for k in range(1, len(self.plates) - 1) if lanes[k] == 0 and columns[k] <= column]
        return max(before, key=lambda k: columns[k], default=0)

    def _connect_to(self, place: int) -> None:
        source, self.connecting, self._pressed = self.connecting, None, None
        self.update()
        if source is not None and place not in (source, 0):
            self.connected.emit(self.plates[source].output, self.plates[place].nodes[0])

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        """Everything that can be done with the chosen plates."""
        if event is None or not self.plates:
            return
        menu = QMenu(self)
        menu.setObjectName("bench menu")
        for verb in VERBS:
            action = menu.addAction(f"{verb.line}\t{verb.shown}")
            if action is not None:
                action.setEnabled(self.changeable or verb.word in READING)
                action.triggered.connect(lambda _=False, word=verb.word: self.perform(word))
        menu.addSeparator()
        menu.addAction("Save as a picture …", self.picture_asked.emit)
        menu.exec(event.globalPos())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """The keys of `VERBS`; arrows choose, with Shift a stretch; Return and Escape end a track being drawn."""
        if event is None or not self.plates:
            return
        key, modifiers = Qt.Key(event.key()), event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier
        if self.connecting is not None and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_C):
            self._connect_to(self.current if self.current is not None else 0)
            return
        if self.connecting is not None and key == Qt.Key.Key_Escape:
            self.connecting = None
            self.update()
            return
        if event.text() in ("+", "-") or (modifiers & CONTROL and key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus)):
            nearer = event.text() == "+" or key == Qt.Key.Key_Plus
            self.zoom(ZOOM if nearer else 1 / ZOOM, self.centre(self.current or 0).x())
            return
        for verb in VERBS:
            if (key, modifiers) in verb.keys:
                self.perform(verb.word)
                return
        if key in (Qt.Key.Key_Home, Qt.Key.Key_End):
            self.choose(0 if key == Qt.Key.Key_Home else len(self.plates) - 1)
            return
        place = self.neighbour(key) if not modifiers & (CONTROL | ALT) else None
        if place is None:
            super().keyPressEvent(event)
        else:
            self.choose(place, bool(modifiers & Qt.KeyboardModifier.ShiftModifier))

    def perform(self, word: str) -> None:
        """Do something with the chosen plates, or say that it is to be done."""
        if not self.changeable and word not in READING:
            return
        if word == "insert":
            place = self.current or 0
            below = self.centre(place) + QPointF(self.step() / 2, 0)
            self.insert_asked.emit(self.plates[place].output, "", below.toPoint())
        elif word == "connect":
            self.connecting = self.current if self.current is not None else 0
            self.update()
        self.done.emit(word)

    def zoom(self, factor: float, about: float) -> None:
        """Wider or narrower places; ``about`` is where on the bench the eye is."""
        place = min(MOST_PLACE, max(LEAST_PLACE, max(self.place, self.step()) * factor))
        before = self.step()
        self.place = place
        self._fit()
        self.zoomed.emit(about, self.place / before)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """With Ctrl zoom; otherwise go along the network."""
        if event is not None and event.modifiers() & CONTROL:
            self.zoom(ZOOM if event.angleDelta().y() > 0 else 1 / ZOOM, event.position().x())
            event.accept()
        else:
            super().wheelEvent(event)

    def paint_over(self, painter: QPainter, ways: Sequence[Edge]) -> None:
        """Gaps, the knob, the way being drawn, where plates would be dropped, and the frost line's grip."""
        if not self.changeable:
            return
        t = look.theme
        if self.step() >= 40:
            painter.setPen(QPen(t.colour("faint"), 1))
            painter.setBrush(t.colour("sheet"))
            for edge in ways:
                painter.drawEllipse(self.gap(edge), 3, 3)
        gap = self._gap
        if self._dragging:
            gap = self._gap or self._nearest_gap(self._mouse)
        if gap is not None:
            self._paint_gap(painter, self.gap(gap))
        handle = self.handle()
        if handle is not None and self.connecting is None:
            painter.setPen(QPen(t.colour("petrol"), 1.4))
            painter.setBrush(t.colour("sheet"))
            painter.drawEllipse(handle, 4.5, 4.5)
        if self.connecting is not None:
            self._paint_connection(painter)
        if self._frosting:
            self.paint_frost(painter, self.step() * round(self._mouse.x() / self.step()))
        elif not self.frost_column() and self.connecting is None:
            x = self._frost_x()
            painter.setPen(QPen(t.colour("petrol", 90), 2))
            painter.drawLine(QPointF(x, 3), QPointF(x, 15))
            painter.setPen(t.colour("faint"))
            painter.setFont(look.font(look.SMALL))
            painter.drawText(QPointF(x + 6, 14), "frost line")

    def _paint_gap(self, painter: QPainter, at: QPointF) -> None:
        t = look.theme
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.colour("petrol"))
        painter.drawEllipse(at, 8, 8)
        painter.setPen(QPen(t.colour("on_petrol"), 1.6))
        painter.drawLine(at + QPointF(-4, 0), at + QPointF(4, 0))
        painter.drawLine(at + QPointF(0, -4), at + QPointF(0, 4))

    def _paint_connection(self, painter: QPainter) -> None:
        t = look.theme
        source = self.connecting or 0
        begin = self.centre(source)
        by_mouse = self._pressed is not None
        end = self._mouse if by_mouse else self.centre(self.current or 0)
        painter.setPen(QPen(t.colour("petrol"), 1.8, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        path = QPainterPath(begin)
        top = max(6.0, min(begin.y(), end.y()) - self.height() * 0.35)
        path.cubicTo(QPointF(begin.x(), top), QPointF(end.x(), top), end)
        painter.drawPath(path)
        painter.setFont(look.font(look.SMALL))
        words = f"from {self.plates[source].name}: choose where it leads to, Return; Esc cancels"
        painter.drawText(QRectF(8, 2, self.width() - 16, 18), Qt.AlignmentFlag.AlignLeft, words)


def _xy(point: QPointF) -> tuple[float, float]:
    return point.x(), point.y()
