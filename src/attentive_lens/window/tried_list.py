"""The list of image files that were tried with a model."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPainter, QPaintEvent

from attentive_lens.window import look
from attentive_lens.window.parts.row_list import RowList
from attentive_lens.window.words import shortened

LINE = 30
"""Pixels of a row."""


class TriedList(RowList):
    """Image files that were tried, by name."""

    def __init__(self, chosen: Callable[[int], None]) -> None:
        super().__init__("images tried", "images tried with this model", LINE)
        self.files: list[Path] = []
        self.current: int | None = None
        self._chosen = chosen
        self.fit()

    def count(self) -> int:
        """Files."""
        return len(self.files)

    def place_in_view(self) -> int | None:
        """That whose answer is shown."""
        return self.current

    def choose(self, place: int) -> None:
        """Explain it."""
        self._chosen(place)

    def tip(self, place: int) -> str:
        """Where it is."""
        return str(self.files[place])

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Names, the one in view marked."""
        t, painter = look.theme, QPainter(self)
        names = shortened([file.name for file in self.files], self.width() - 20, self.fontMetrics().horizontalAdvance)
        for place, name in enumerate(names):
            row, own = self.row(place), place == self.current
            if own:
                painter.fillRect(row, t.colour("sheet"))
                painter.fillRect(row.left(), row.top(), 3, row.height(), t.colour("petrol"))
            painter.setPen(t.colour("ink" if own else "faint"))
            painter.setFont(look.font(look.TEXT, own))
            painter.drawText(row.adjusted(12, 0, -4, 0), Qt.AlignmentFlag.AlignVCenter, name)
        self.paint_focus(painter)
