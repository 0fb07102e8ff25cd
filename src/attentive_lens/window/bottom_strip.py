"""The window's bottom strip: the last message with «undo», background work, memory, and the theme."""

from __future__ import annotations

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtWidgets import QFrame, QProgressBar, QSizePolicy

from attentive_lens.window import look
from attentive_lens.window.parts.basics import OneLine, button, horizontal, label, set_role
from attentive_lens.window.session import Session
from attentive_lens.window.words import memory_size

MEMORY_MS = 2000
MOST_UNDO = 40
"""Letters of what would be undone that stand beside the message."""


class BottomStrip(QFrame):
    """What the window has to say, and what it is doing.

    Signals
    -------
    theme_asked
        Dark colours are wanted, or light ones.
    """

    theme_asked = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("bottom strip")
        self.setFixedHeight(28)
        row = horizontal(self, spacing=10, margins=(16, 1, 16, 0))
        self.message, self.work = (OneLine(name, "faint", look.SMALL) for name in ("message", "background work"))
        for line in (self.message, self.work):
            line.setSizePolicy(QSizePolicy.Policy.Maximum, QSizePolicy.Policy.Preferred)
        row.addWidget(self.message)
        self.undo = button("undo", "undo", "Take the last decision back (Ctrl+Z).", session.step_back)
        row.addWidget(self.undo)
        row.addStretch(1)
        row.addWidget(self.work)
        self.work_bar = QProgressBar()
        self.work_bar.setTextVisible(False)
        self.work_bar.setFixedSize(120, 4)
        row.addWidget(self.work_bar)
        tip = "Stop the run after its step; everything is kept."
        self.stop = button("stop", "stop training", tip, lambda: session.runs.steer("stop"))
        row.addWidget(self.stop)
        self.memory = label(role="faint", size=look.SMALL, name="memory")
        row.addWidget(self.memory)
        self.theme = button(
            "",
            "theme",
            "Other colours: light, dark, high contrast, or as the desktop has them (Ctrl+Shift+L).",
            self.theme_asked.emit,
        )
        row.addWidget(self.theme)
        for each in (self.undo, self.stop, self.theme):
            each.setFont(look.font(look.SMALL))
            each.setStyleSheet("padding: 0 8px; min-height: 16px;")
        for hidden in (self.undo, self.work_bar, self.stop):
            hidden.hide()
        self.name_theme()
        session.message.connect(self.say)
        session.worked.connect(self._show_work)
        session.history_changed.connect(self._show_undo)
        session.ticked.connect(self._show_training)
        self._measure = QTimer(self)
        self._measure.timeout.connect(self._show_memory)
        self._measure.start(MEMORY_MS)
        self._show_memory()

    def say(self, sentence: str, bad: bool) -> None:
        """A sentence; it stays until the next."""
        self.message.setText(sentence)
        set_role(self.message, "bad" if bad else "faint")

    def name_theme(self) -> None:
        """The word for the next theme."""
        self.theme.setText(look.following())

    def close_down(self) -> None:
        """Measure no longer."""
        self._measure.stop()

    def _show_undo(self) -> None:
        """Offer «undo» while there is something to take back, and say what."""
        last = self.session.timeline.last
        self.undo.setVisible(bool(last))
        self.undo.setText(f"undo {last if len(last) <= MOST_UNDO else last[:MOST_UNDO].rstrip() + '…'}")
        self.undo.setToolTip(f"Take back: {last} (Ctrl+Z).")

    def _show_memory(self) -> None:
        """What the window and its worker take, and what the machine has left."""
        used, left = self.session.asker.memory()
        self.memory.setText(f"{memory_size(used)} in use · {memory_size(left)} free")
        self.memory.setToolTip("Memory of this window and its worker, and what the machine has left for more.")

    def _show_work(self, doing: str, done: int, total: int) -> None:
        if self.session.runs.training is None:
            self.work.setText(doing)
            self._show_bar(done, total)

    def _show_bar(self, done: int, total: int) -> None:
        self.work_bar.setVisible(bool(total))
        self.work_bar.setRange(0, max(1, total))
        self.work_bar.setValue(done)

    def _show_training(self) -> None:
        view = self.session.runs.training
        if view is not None:
            epoch = min(len(view.epochs) + 1, max(1, view.planned))
            self.work.setText(f"run {view.number} · epoch {epoch} of {view.planned}")
            self._show_bar(view.steps[0], max(1, view.steps[1]))
        elif self.stop.isVisible():
            self._show_work("", 0, 0)
        self.stop.setVisible(view is not None)
