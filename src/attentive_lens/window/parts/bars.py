"""Horizontal bars: probabilities of the classes, counts of the classes."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QFontMetrics, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QShowEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from attentive_lens.window import look
from attentive_lens.window.parts.pointing import points, rows
from attentive_lens.window.words import shortened

ROW = 22


@dataclass(frozen=True)
class Bar:
    """A name, a length 0–1, the figure at its end, its colour's role."""

    name: str
    length: float
    figure: str
    role: str = "faint"


class Bars(QWidget):
    """One bar a row; a click chooses.

    Signals
    -------
    chosen
        Row number.
    """

    chosen = pyqtSignal(int)

    def __init__(self, name: str, name_width: int = 84, figure_width: int = 56) -> None:
        super().__init__()
        points(self, rows(lambda: len(self.bars) if self.receivers(self.chosen) else 0, ROW))
        self.setObjectName(name)
        self.setAccessibleName(name)
        self.bars: tuple[Bar, ...] = ()
        self.current: int | None = None
        self._at = 0
        self.name_width, self.figure_width = name_width, figure_width
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_bars(self, bars: tuple[Bar, ...], current: int | None = None) -> None:
        """Show others."""
        self.bars, self.current, self._at = bars, current, min(self._at, max(0, len(bars) - 1))
        self._take_focus()
        self.setFixedHeight(max(1, len(bars)) * ROW)
        self.setAccessibleDescription("; ".join(f"{bar.name} {bar.figure}" for bar in bars))
        self.update()

    def showEvent(self, event: QShowEvent | None) -> None:
        """Keys go here where a row can be chosen, and nowhere else."""
        super().showEvent(event)
        self._take_focus()

    def _take_focus(self) -> None:
        answers = bool(self.bars) and self.receivers(self.chosen) > 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus if answers else Qt.FocusPolicy.NoFocus)

    def sizeHint(self) -> QSize:
        """A row each."""
        return QSize(200, max(1, len(self.bars)) * ROW)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Name, bar, figure."""
        t = look.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        wide = self.width() - self.name_width - self.figure_width
        metrics = QFontMetrics(look.font(look.TEXT, True))
        names = shortened([bar.name for bar in self.bars], self.name_width - 8, metrics.horizontalAdvance)
        for k, bar in enumerate(self.bars):
            y = k * ROW
            chosen = k == self.current
            painter.setFont(look.font(look.TEXT, chosen))
            painter.setPen(t.colour("ink" if bar.role == "faint" else bar.role))
            painter.drawText(QRectF(0, y, self.name_width, ROW), Qt.AlignmentFlag.AlignVCenter, names[k])
            groove = QRectF(self.name_width, y + 7, wide, 8)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.colour("well"))
            painter.drawRoundedRect(groove, 2, 2)
            painter.setBrush(t.colour(bar.role))
            filled = QRectF(groove.left(), groove.top(), max(2.0, wide * min(1.0, bar.length)), 8)
            if bar.length > 0:
                painter.drawRoundedRect(filled, 2, 2)
            painter.setPen(t.colour("ink"))
            painter.setFont(look.font(look.TEXT))
            right = QRectF(self.width() - self.figure_width, y, self.figure_width, ROW)
            painter.drawText(right, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, bar.figure)
            if self.hasFocus() and k == self._at:
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(t.colour("petrol"))
                painter.drawRect(QRectF(0.5, y + 0.5, self.width() - 1, ROW - 1))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose the row."""
        if event is not None and 0 <= int(event.position().y()) // ROW < len(self.bars):
            self._at = int(event.position().y()) // ROW
            self.chosen.emit(self._at)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Up and down go along the rows, Return and Space choose one."""
        steps = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}
        key = Qt.Key(event.key()) if event is not None else Qt.Key.Key_unknown
        if key in steps and self.bars:
            self._at = min(max(self._at + steps[key], 0), len(self.bars) - 1)
            self.setAccessibleDescription(f"{self.bars[self._at].name} {self.bars[self._at].figure}")
            self.update()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space) and self._at < len(self.bars):
            self.chosen.emit(self._at)
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        """The row where keys go is framed."""
        super().focusInEvent(event)
        self.update()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        """And no longer."""
        super().focusOutEvent(event)
        self.update()
