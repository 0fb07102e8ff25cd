"""A slider with one handle or two, its figures written at its ends."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from attentive_lens.window import look
from attentive_lens.window.parts.pointing import SIDEWAYS, points

FIGURE = 52
STEPS = 200


class RangeSlider(QWidget):
    """Values between a least and a most; the mouse or the arrow keys move the nearer or the chosen handle.

    Signals
    -------
    moved
        While a handle moves.
    settled
        When it was let go.
    """

    moved = pyqtSignal()
    settled = pyqtSignal()

    def __init__(self, name: str, low: float, high: float, values: tuple[float, ...]) -> None:
        super().__init__()
        points(self, shape=SIDEWAYS)
        self.setObjectName(name)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.low, self.high = low, high
        self.values = list(values)
        self.held = 0

    def sizeHint(self) -> QSize:
        """One line."""
        return QSize(220, 26)

    def _track(self) -> QRectF:
        left = FIGURE if len(self.values) > 1 else 8
        return QRectF(left, self.height() / 2 - 1, self.width() - left - FIGURE, 2)

    def _x(self, value: float) -> float:
        track = self._track()
        return track.left() + (value - self.low) / (self.high - self.low) * track.width()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Track, what lies between, handles, figures."""
        t = look.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        track = self._track()
        painter.fillRect(track, t.colour("line"))
        begin = self._x(self.values[0]) if len(self.values) > 1 else track.left()
        painter.fillRect(QRectF(begin, track.top(), self._x(self.values[-1]) - begin, 2), t.colour("petrol"))
        middle = self.height() / 2
        for k, value in enumerate(self.values):
            painter.setPen(QPen(t.colour("petrol"), 2 if self.hasFocus() and k == self.held else 1))
            painter.setBrush(t.colour("sheet"))
            painter.drawEllipse(QPointF(self._x(value), middle), 6, 6)
        painter.setFont(look.font(look.SMALL))
        painter.setPen(t.colour("ink"))
        right = QRectF(self.width() - FIGURE, 0, FIGURE, self.height())
        side = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        painter.drawText(right, side, _figure(self.values[-1]))
        if len(self.values) > 1:
            left = QRectF(0, 0, FIGURE - 12, self.height())
            painter.drawText(left, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, _figure(self.values[0]))

    def move_to(self, value: float) -> None:
        """Move the held handle; it does not pass the other, and lands on round values."""
        step = (self.high - self.low) / STEPS
        value = self.low + round((value - self.low) / step) * step
        low = self.values[self.held - 1] if self.held else self.low
        high = self.values[self.held + 1] if self.held + 1 < len(self.values) else self.high
        value = round(min(max(value, low), high), 6)
        if value != self.values[self.held]:
            self.values[self.held] = value
            self.update()
            self.moved.emit()

    def _at(self, x: float) -> float:
        track = self._track()
        return self.low + (x - track.left()) / track.width() * (self.high - self.low)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Take the nearer handle; of two in one place the one on the mouse's side."""
        if event is not None:
            value = self._at(event.position().x())
            far = [abs(value - handle) for handle in self.values]
            self.held = far.index(min(far))
            if len(self.values) > 1 and self.values[0] == self.values[1]:
                self.held = int(value > self.values[0])
            self.move_to(value)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Drag it."""
        if event is not None:
            self.move_to(self._at(event.position().x()))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Let it go."""
        self.settled.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right move the held handle, up and down choose the other."""
        if event is None:
            return
        key, step = Qt.Key(event.key()), (self.high - self.low) / STEPS * 5
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.move_to(self.values[self.held] + (step if key == Qt.Key.Key_Right else -step))
            self.settled.emit()
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.held = (self.held + 1) % len(self.values)
            self.update()
        else:
            super().keyPressEvent(event)


def _figure(value: float) -> str:
    return f"{value:.3g}".replace("-", "\u2212")
