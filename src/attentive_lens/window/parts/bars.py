"""Horizontal bars: probabilities of the classes, counts of the classes."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetrics, QMouseEvent, QPainter, QPaintEvent
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
        self.name_width, self.figure_width = name_width, figure_width
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_bars(self, bars: tuple[Bar, ...], current: int | None = None) -> None:
        """Show others."""
        self.bars, self.current = bars, current
        self.setFixedHeight(max(1, len(bars)) * ROW)
        self.setAccessibleDescription("; ".join(f"{bar.name} {bar.figure}" for bar in bars))
        self.update()

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

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose the row."""
        if event is not None and 0 <= int(event.position().y()) // ROW < len(self.bars):
            self.chosen.emit(int(event.position().y()) // ROW)
