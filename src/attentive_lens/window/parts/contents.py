"""A table of contents: views one under the other, each with a small figure of its own."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QPushButton, QSizePolicy

from attentive_lens.window import look

TALL, EDGE, LEFT, FURTHER = 42, 3, 12, 12
"""Pixels of a row, of the mark of the chosen one, before its words, and before those of one below another."""


class Entry(QPushButton):
    """A row: what the view is called, and under it what it would say first.

    Parameters
    ----------
    text, name, tip : str
        Its words, its own name, and what is seen in the view.
    clicked : callable
        Shows the view.
    is_below : bool
        Whether it belongs to the row above it, and stands a little further in.
    """

    def __init__(self, text: str, name: str, tip: str, clicked: Callable[[], Any], *, is_below: bool = False) -> None:
        super().__init__(text)
        self._left = LEFT + (FURTHER if is_below else 0)
        self.setObjectName(name)
        self.setToolTip(tip)
        self.setAccessibleName(text)
        self.setCheckable(True)
        self.setFont(look.font())
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.clicked.connect(lambda _=False: clicked())
        self.figure = ""

    def show_figure(self, words: str) -> None:
        """Other words under its name."""
        if words != self.figure:
            self.figure = words
            self.setAccessibleDescription(words)
            self.update()

    def sizeHint(self) -> QSize:
        """Two lines."""
        return QSize(self._left + self.fontMetrics().horizontalAdvance(self.text()) + 8, TALL)

    def minimumSizeHint(self) -> QSize:
        """Its words must be read."""
        return self.sizeHint()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Name and figure; the chosen one stands out, and the one with the focus is framed."""
        t, painter = look.theme, QPainter(self)
        whole = QRectF(self.rect())
        if self.isChecked() or self.underMouse():
            painter.fillRect(whole, t.colour("sheet" if self.isChecked() else "well"))
        if self.isChecked():
            painter.fillRect(QRectF(0, 0, EDGE, self.height()), t.colour("petrol"))
        if self.hasFocus():
            painter.setPen(t.colour("petrol"))
            painter.drawRect(whole.adjusted(0.5, 0.5, -0.5, -0.5))
        room = self.width() - self._left - 4
        painter.setFont(look.font(look.TEXT, self.isChecked()))
        painter.setPen(t.colour("ink"))
        side = Qt.AlignmentFlag.AlignVCenter
        top = 4.0 if self.figure else (self.height() - 18) / 2
        painter.drawText(QRectF(self._left, top, room, 18), side, self.text())
        painter.setFont(look.font(look.SMALL))
        painter.setPen(t.colour("faint"))
        shown = painter.fontMetrics().elidedText(self.figure, Qt.TextElideMode.ElideRight, room)
        painter.drawText(QRectF(self._left, 21, room, 17), side, shown)
