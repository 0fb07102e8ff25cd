"""A strip with the whole network at a glance, and where on it one is."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt
from PyQt6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QScrollArea, QSizePolicy, QToolTip, QWidget

from attentive_lens.window import look
from attentive_lens.window.bench.bench import Bench
from attentive_lens.window.parts.pointing import SIDEWAYS, points
from attentive_lens.window.words import shape

HEIGHT = 26


class Overview(QWidget):
    """Every plate of a bench as a stroke, the part on the screen in a frame; a click or a drag goes there.

    It is there only while the bench is wider than what is shown of it.
    """

    def __init__(self, bench: Bench, scroll: QScrollArea) -> None:
        super().__init__()
        points(self, shape=SIDEWAYS)
        self.setObjectName("overview")
        self.setAccessibleName("the whole network; a click goes there")
        self.setToolTip("The whole network: rest on a stroke to see its name, click or drag to go there.")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFixedHeight(HEIGHT)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._bench, self._scroll = bench, scroll
        bar = scroll.horizontalScrollBar()
        if bar is not None:
            bar.valueChanged.connect(self.update)
            bar.rangeChanged.connect(lambda low, high: self.setVisible(high > low))
        self.hide()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Strokes as tall as the plates are, and the frame."""
        t, bench = look.theme, self._bench
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not bench.plates:
            return
        scale = self.width() / max(1, bench.width())
        tall = max(1.0, float(bench.height()))
        for place, plate in enumerate(bench.plates):
            centre = bench.centre(place)
            _, edge = bench.form(place)
            half = max(2.0, edge.height() / tall * HEIGHT * 0.6)
            y = HEIGHT / 2 + (centre.y() / tall - 0.5) * HEIGHT * 0.5
            colour = "vermilion" if plate.faulty else "petrol" if plate.frozen or bench.is_chosen(place) else "faint"
            painter.setPen(QPen(t.colour(colour), 2 if bench.is_chosen(place) or plate.faulty else 1.2))
            painter.drawLine(QPointF(centre.x() * scale, y - half), QPointF(centre.x() * scale, y + half))
        bar, view = self._scroll.horizontalScrollBar(), self._scroll.viewport()
        if bar is not None and view is not None:
            frame = QRectF(bar.value() * scale, 0.5, view.width() * scale, HEIGHT - 1)
            painter.setPen(QPen(t.colour("petrol"), 2 if self.hasFocus() else 1))
            painter.setBrush(t.colour("petrol", 18))
            painter.drawRoundedRect(frame.adjusted(0.5, 0, -0.5, 0), 3, 3)

    def plate_at(self, x: float) -> int | None:
        """The plate that stands nearest to a place on the strip, in pixels; None where there is none."""
        scale = self.width() / max(1, self._bench.width())
        places = range(len(self._bench.plates))
        return min(places, key=lambda place: abs(self._bench.centre(place).x() * scale - x), default=None)

    def event(self, event: QEvent | None) -> bool:
        """The name of what a stroke stands for, and its output, where the mouse rests."""
        place = self.plate_at(event.pos().x()) if isinstance(event, QHelpEvent) else None
        if isinstance(event, QHelpEvent) and place is not None:
            plate = self._bench.plates[place]
            words = " · ".join(filter(None, (plate.name, shape(plate.shape) if plate.shape else "")))
            QToolTip.showText(event.globalPos(), f"{words}\nA click or a drag goes along the network.", self)
            return True
        return super().event(event)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Bring the middle of the screen there."""
        bar, view = self._scroll.horizontalScrollBar(), self._scroll.viewport()
        if event is not None and bar is not None and view is not None:
            target = event.position().x() / max(1, self.width()) * self._bench.width()
            bar.setValue(int(target - view.width() / 2))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right go along the network."""
        bar, view = self._scroll.horizontalScrollBar(), self._scroll.viewport()
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if event is not None and event.key() in steps and bar is not None and view is not None:
            bar.setValue(bar.value() + steps[Qt.Key(event.key())] * view.width() // 4)
        else:
            super().keyPressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Likewise while a button is held."""
        if event is not None and event.buttons() & Qt.MouseButton.LeftButton:
            self.mousePressEvent(event)
