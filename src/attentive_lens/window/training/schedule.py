"""The schedule drawn over the run; its handles are dragged, or moved by keys."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from attentive_lens.desk.scheduling import Handle, dragged, handles, rates_over
from attentive_lens.window import look
from attentive_lens.window.parts.chart import log_steps, round_steps
from attentive_lens.window.session import Session

LEFT, RIGHT, TOP, BOTTOM = 54, 10, 14, 22
NEAR = 14
"""Pixels within which a press takes a handle."""
WORDS = {
    "schedule.warmup_epochs": "warm-up",
    "schedule.step_size": "step size",
    "schedule.rise": "rise",
    "optimiser.learning_rate": "learning rate",
    "schedule.final_factor": "final factor",
    "schedule.gamma": "gamma",
}


class ScheduleChart(QWidget):
    """The learning rate over the epochs, by its logarithm; what is dragged is changed in the plan."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("schedule chart")
        self.setAccessibleName("schedule")
        self.setToolTip(
            "The learning rate over the run. Drag a handle, or choose one with the left and right keys and move it"
            " with Shift and an arrow."
        )
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.current = 0
        self._held: Handle | None = None
        self._limits: tuple[float, float] = (1e-4, 1e-3)
        self.refresh()

    def sizeHint(self) -> QSize:
        """A third of the panel's width high."""
        return QSize(300, 130)

    @property
    def batches(self) -> int:
        """Of an epoch of the next run."""
        images = self.session.images.collection.sets.count("training")
        return max(1, -(-images // self.session.design.plan.training.batch_size))

    def refresh(self) -> None:
        """Draw the plan as it is now."""
        plan = self.session.design.plan
        self.points, self.handles = rates_over(plan, self.batches), handles(plan, self.batches)
        if self._held is None:
            values = [rate for _, rate in self.points if rate > 0] or [1e-4]
            self._limits = max(min(values) / 1.5, max(values) * 8e-4), max(values) * 3
        self.current = min(self.current, len(self.handles) - 1)
        self.update()

    def _area(self) -> QRectF:
        return QRectF(LEFT, TOP, self.width() - LEFT - RIGHT, self.height() - TOP - BOTTOM)

    def place(self, epoch: float, rate: float) -> QPointF:
        """Where a point of the curve is in the widget."""
        area, (low, high) = self._area(), self._limits
        span = max(1e-9, float(self.session.design.plan.training.epochs))
        share = math.log(min(high, max(low, rate)) / low) / math.log(high / low)
        return QPointF(area.left() + epoch / span * area.width(), area.bottom() - share * area.height())

    def _point(self, place: QPointF) -> tuple[float, float]:
        area, (low, high) = self._area(), self._limits
        epochs = self.session.design.plan.training.epochs
        share = min(1.1, max(0.0, (area.bottom() - place.y()) / area.height()))
        epoch = min(1.0, max(0.0, (place.x() - area.left()) / area.width())) * epochs
        return epoch, low * (high / low) ** share

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Grid, curve, handles."""
        t, painter, area = look.theme, QPainter(self), self._area()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(look.font(look.SMALL))
        for value in log_steps(*self._limits)[-4:]:
            y = self.place(0, value).y()
            painter.setPen(QPen(t.colour("line"), 1))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            painter.setPen(t.colour("faint"))
            box = QRectF(0, y - 9, LEFT - 6, 18)
            painter.drawText(
                box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{value:g}".replace("e-0", "e−")
            )
        for value in round_steps(0, self.session.design.plan.training.epochs, 5):
            box = QRectF(self.place(value, 1).x() - 24, area.bottom() + 3, 48, 16)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, f"{value:g}")
        painter.setPen(QPen(t.colour("ink"), 1.6))
        painter.drawPolyline(QPolygonF([self.place(epoch, rate) for epoch, rate in self.points]))
        for k, handle in enumerate(self.handles):
            at, chosen = self.place(handle.epoch, handle.rate), k == self.current and self.hasFocus()
            painter.setPen(QPen(t.colour("petrol"), 2))
            painter.setBrush(t.colour("petrol" if chosen or handle == self._held else "sheet"))
            painter.drawEllipse(at, 5, 5)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if self._held is not None or self.hasFocus():
            handle = self.handles[self.current]
            table = self.session.design.plan.write()
            section, _, name = handle.key.partition(".")
            words = f"{WORDS[handle.key]} {table[section][name]:g}"
            painter.setPen(t.colour("petrol"))
            painter.drawText(area.adjusted(4, 0, -4, 0), Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignRight, words)

    def _near(self, place: QPointF) -> int | None:
        gaps = [(self.place(handle.epoch, handle.rate) - place).manhattanLength() for handle in self.handles]
        nearest = min(range(len(gaps)), key=lambda k: gaps[k])
        return nearest if gaps[nearest] <= NEAR else None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Take a handle."""
        near = self._near(event.position()) if event is not None else None
        if near is not None:
            self.current, self._held = near, self.handles[near]
            self.update()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Drag it; the plan follows."""
        if event is None:
            return
        if self._held is None:
            over = self._near(event.position())
            shape = Qt.CursorShape.ArrowCursor
            if over is not None:
                across = self.handles[over].across
                shape = Qt.CursorShape.SizeHorCursor if across else Qt.CursorShape.SizeVerCursor
            self.setCursor(shape)
            return
        self._change(*self._point(event.position()))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Let it go; the axis fits the curve again."""
        self._held = None
        self.refresh()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right choose a handle, with Shift the arrows move it."""
        if event is None:
            return
        key = Qt.Key(event.key())
        by = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, 1), Qt.Key.Key_Down: (0, -1)}
        if key not in by:
            super().keyPressEvent(event)
            return
        across, up = by[key]
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            handle = self.handles[self.current]
            self._change(handle.epoch + across * 0.5, handle.rate * 1.1**up)
        elif across:
            self.current = (self.current + across) % len(self.handles)
            self.update()

    def _change(self, epoch: float, rate: float) -> None:
        handle = self.handles[self.current]
        plan = dragged(self.session.design.plan, handle, epoch, rate)
        self.session.design.change(plan, f"the {WORDS[handle.key]}")
        self.refresh()
