"""The schedule drawn over the run; its handles are dragged, or moved by keys."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QSize, Qt
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent
from PyQt6.QtWidgets import QSizePolicy

from attentive_lens.desk.network.scheduling import Handle, dragged, handles, rates_over
from attentive_lens.window.parts.plot import Plot
from attentive_lens.window.session import Session

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


class ScheduleChart(Plot):
    """The learning rate over the epochs, by its logarithm; what is dragged is changed in the plan."""

    def __init__(self, session: Session) -> None:
        super().__init__("", "schedule chart", (54, 10, 14, 22))
        self.setAccessibleName("schedule")
        self.session = session
        self.setToolTip(
            "The learning rate over the run. Drag a handle, or choose one with the left and right keys and move it"
            " with Shift and an arrow."
        )
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.current = 0
        self._held: Handle | None = None
        self._limits: tuple[float, float] = (1e-4, 1e-3)
        self.points: tuple[tuple[float, float], ...] = ()
        self.handles: tuple[Handle, ...] = ()
        self.show_plan()

    def sizeHint(self) -> QSize:
        """A third of the panel's width high."""
        return QSize(300, 130)

    @property
    def batches(self) -> int:
        """Of an epoch of the next run."""
        images = self.session.images.collection.sets.count("training")
        return max(1, -(-images // self.session.design.plan.training.batch_size))

    def show_plan(self) -> None:
        """Draw the plan as it is now."""
        plan = self.session.design.plan
        self.points, self.handles = rates_over(plan, self.batches), handles(plan, self.batches)
        if self._held is None:
            values = [rate for _, rate in self.points if rate > 0] or [1e-4]
            self._limits = max(min(values) / 1.5, max(values) * 8e-4), max(values) * 3
        self.current = min(self.current, len(self.handles) - 1)
        self.refresh()

    def draw(self) -> None:
        """Curve, handles, and the value of the one that is chosen."""
        self.set_range((0.0, max(1.0, float(self.session.design.plan.training.epochs))), self._limits, log="y")
        self.line(np.asarray(self.points), "ink", 1.6)
        for k, handle in enumerate(self.handles):
            at, chosen = np.array([[handle.epoch, handle.rate]]), k == self.current and self.hasFocus()
            self.dots(at, "petrol" if chosen or handle == self._held else "sheet", 10)
            self.dots(at, "petrol", 10, hollow=True)
        if self._held is not None or self.hasFocus():
            handle = self.handles[self.current]
            table = self.session.design.plan.write()
            section, _, name = handle.key.partition(".")
            words = f"{WORDS[handle.key]} {table[section][name]:g}"
            self.words(words, QPointF(self.area().right() - 4, self.area().top() + 8), "petrol", align=1.0)

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        """Show which handle the keys move."""
        super().focusInEvent(event)
        self.refresh()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        """The keys move none."""
        super().focusOutEvent(event)
        self.refresh()

    def _near(self, place: QPointF) -> int | None:
        gaps = [(self.place(handle.epoch, handle.rate) - place).manhattanLength() for handle in self.handles]
        nearest = min(range(len(gaps)), key=lambda k: gaps[k])
        return nearest if gaps[nearest] <= NEAR else None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Take a handle."""
        near = self._near(event.position()) if event is not None else None
        if near is not None:
            self.current, self._held = near, self.handles[near]
            self.refresh()

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
        self._change(*self.value(event.position()))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Let it go; the axis fits the curve again."""
        self._held = None
        self.show_plan()

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
            self.refresh()

    def _change(self, epoch: float, rate: float) -> None:
        handle = self.handles[self.current]
        plan = dragged(self.session.design.plan, handle, epoch, rate)
        self.session.design.change(plan, f"the {WORDS[handle.key]}")
        self.show_plan()
