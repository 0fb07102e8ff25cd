"""The left rail: the stages in the order of work, each with a line on its state."""

from __future__ import annotations

from PyQt6.QtCore import QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QShortcut
from PyQt6.QtWidgets import QAbstractButton, QButtonGroup, QSizePolicy, QWidget

from attentive_lens.window import look
from attentive_lens.window.glyphs import draw_glyph
from attentive_lens.window.parts.basics import vertical

WIDTH, HEIGHT = 72, 78
TOP = 44
"""Height of the window's top strip, whose line runs on over the rail."""


class StageButton(QAbstractButton):
    """A stage: sign, word, state."""

    def __init__(self, key: str, word: str, question: str, number: int) -> None:
        super().__init__()
        self.key, self.state = key, ""
        self.setText(word)
        self.setObjectName(f"stage {key}")
        self.setAccessibleName(word)
        self.setToolTip(f"{question} (Ctrl+{number})")
        self.setCheckable(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        """Fixed."""
        return QSize(WIDTH, HEIGHT)

    def set_state(self, state: str) -> None:
        """Show another line of state."""
        if state != self.state:
            self.state = state
            self.setAccessibleDescription(state)
            self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Sign above, word and state under it; the chosen one on a sheet with a petrol edge."""
        t = look.theme
        painter = QPainter(self)
        chosen = self.isChecked()
        if chosen or self.underMouse():
            painter.fillRect(self.rect(), t.colour("sheet", 255 if chosen else 140))
        if chosen:
            painter.fillRect(0, 0, 3, HEIGHT, t.colour("petrol"))
        if self.hasFocus():
            painter.setPen(t.colour("petrol"))
            painter.drawRect(self.rect().adjusted(3, 1, -2, -2))
        draw_glyph(painter, self.key, 24, 10, t.colour("petrol" if chosen else "faint"))
        painter.setFont(look.font(look.SMALL, chosen))
        painter.setPen(t.colour("ink" if chosen else "faint"))
        painter.drawText(QRect(0, 36, WIDTH, 18), Qt.AlignmentFlag.AlignCenter, self.text())
        painter.setFont(look.font(look.SMALL))
        painter.setPen(t.colour("faint"))
        metrics = painter.fontMetrics()
        state = metrics.elidedText(self.state, Qt.TextElideMode.ElideRight, WIDTH - 6)
        painter.drawText(QRect(0, 53, WIDTH, 18), Qt.AlignmentFlag.AlignCenter, state)


class Rail(QWidget):
    """All stages; emits the key of the chosen one."""

    chosen = pyqtSignal(str)

    def __init__(self, stages: list[tuple[str, str, str]]) -> None:
        super().__init__()
        self.setFixedWidth(WIDTH + 1)
        layout = vertical(self, spacing=4, margins=(0, TOP, 1, 0))
        self.buttons: dict[str, StageButton] = {}
        group = QButtonGroup(self)
        for number, (key, word, question) in enumerate(stages, 1):
            button = StageButton(key, word, question, number)
            button.clicked.connect(lambda _=False, k=key: self.chosen.emit(k))
            QShortcut(f"Ctrl+{number}", self).activated.connect(lambda k=key: self.chosen.emit(k))
            group.addButton(button)
            layout.addWidget(button)
            self.buttons[key] = button
        layout.addStretch()

    def show_stage(self, key: str) -> None:
        """Mark the stage as the one on the screen."""
        self.buttons[key].setChecked(True)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """A line at the right edge, and the top strip's."""
        painter = QPainter(self)
        painter.setPen(look.theme.colour("line"))
        painter.drawLine(0, TOP - 1, WIDTH, TOP - 1)
        painter.drawLine(WIDTH, 0, WIDTH, self.height())
