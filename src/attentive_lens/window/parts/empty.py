"""What stands where there is nothing yet: a faint drawing of what will, what to do next, and the button for it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, label, vertical

SIZE = QSize(320, 156)
"""Pixels of a drawing."""
CELL, STEP = 22, 26
"""Pixels of a cell of the matrix, and from one to the next."""
WIDE = 440
"""Pixels of the text."""


def _matrix(painter: QPainter) -> None:
    """Answers on the diagonal, a few beside it."""
    t, left = look.theme, (SIZE.width() - 6 * STEP) / 2
    beside = {(1, 3), (4, 2), (0, 5)}
    for row in range(6):
        for column in range(6):
            box = QRectF(left + column * STEP, row * STEP, CELL, CELL)
            if row == column:
                painter.fillRect(box, t.colour("petrol", 120 - 14 * (row % 4)))
            elif (row, column) in beside:
                painter.fillRect(box, t.colour("vermilion", 90))
            else:
                painter.drawRect(box)


def _pair(painter: QPainter) -> None:
    """Two copies of an image under one lens."""
    t, side = look.theme, 150.0
    for left, role in ((0.0, "vermilion"), (SIZE.width() - side - 1, "petrol")):
        painter.drawRect(QRectF(left, 0, side, side))
        painter.drawEllipse(QRectF(left + 30, 24, 96, 92))
        painter.save()
        middle = QPointF(left + 48, 106)
        painter.setBrush(t.colour("sheet"))
        painter.setPen(QPen(t.colour("faint"), 2))
        painter.drawEllipse(middle, 34, 34)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.colour(role, 110))
        painter.drawEllipse(middle, 13, 13)
        painter.restore()


def _cases(painter: QPainter) -> None:
    """Pages of a book, each an image with what is known of it."""
    t = look.theme
    for row in range(3):
        top = 52.0 * row
        painter.drawRect(QRectF(0, top, 42, 42))
        painter.drawEllipse(QRectF(10, top + 10, 22, 22))
        for k, width in enumerate((150, 230, 90)):
            painter.fillRect(QRectF(58, top + 3 + 14 * k, width, 6), t.colour("line"))
        painter.save()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.colour(("petrol", "vermilion", "petrol")[row], 120))
        painter.drawEllipse(QPointF(308, top + 21), 6, 6)
        painter.restore()


DRAWINGS: dict[str, Callable[[QPainter], None]] = {"matrix": _matrix, "pair": _pair, "cases": _cases}
"""What can be drawn of what will stand there."""


class Drawing(QWidget):
    """One of the drawings, of no image and no figure."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.name = name
        self.setObjectName(f"drawing of {name}")
        self.setFixedSize(SIZE)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """With a thin pen."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.translate(0.5, 0.5)
        painter.setPen(QPen(look.theme.colour("line"), 1))
        DRAWINGS[self.name](painter)


class EmptyState(QWidget):
    """What will be here, what to do next, and the button for it.

    Parameters
    ----------
    drawing : str
        One of `DRAWINGS`.
    title, text : str
        What is missing, and what to do.
    action, name : str
        The button's words and its name for tests; without words there is none.
    clicked : callable or None
        What the button does.
    """

    def __init__(
        self,
        drawing: str,
        title: str,
        text: str,
        action: str = "",
        name: str = "",
        clicked: Callable[[], Any] = lambda: None,
    ) -> None:
        super().__init__()
        layout = vertical(self, spacing=12)
        centre = Qt.AlignmentFlag.AlignCenter
        layout.setAlignment(centre)
        layout.addWidget(Drawing(drawing), 0, centre)
        layout.addSpacing(8)
        self.text = label(text, "faint")
        self.text.setWordWrap(True)
        self.text.setFixedWidth(WIDE)
        for widget in (label(title, size=look.TITLE, strong=True), self.text):
            widget.setAlignment(centre)
            layout.addWidget(widget, 0, centre)
        if action:
            go = button(action, name, text, clicked)
            go.setProperty("role", "main")
            layout.addWidget(go, 0, centre)
