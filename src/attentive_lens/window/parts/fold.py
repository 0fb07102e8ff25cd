"""A heading that unfolds what stands under it, and says what is unusual in it while it is folded."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from attentive_lens.window import look
from attentive_lens.window.parts.basics import OneLine, button, horizontal, vertical


class Fold(QWidget):
    """A folded part of a panel.

    Parameters
    ----------
    title, name, tip : str
        Its heading, its name for tests, and what it holds.
    """

    def __init__(self, title: str, name: str, tip: str) -> None:
        super().__init__()
        self.title = title
        outer = vertical(self, spacing=4)
        row = horizontal(spacing=8)
        self.head = button("", name, tip, self._turn, checkable=True)
        self.head.setProperty("role", "fold")
        self.head.setAccessibleName(title)
        row.addWidget(self.head)
        self.says = OneLine(f"{name} says", "faint", look.SMALL)
        row.addWidget(self.says, 1)
        outer.addLayout(row)
        self.body = QWidget()
        self.body.setObjectName(f"{name} body")
        self.inside = vertical(self.body, spacing=6, margins=(12, 0, 0, 6))
        outer.addWidget(self.body)
        self._turn()

    def say(self, words: str) -> None:
        """What is unusual in it."""
        self.says.setText(words)
        self.says.setToolTip(words)

    @property
    def is_unfolded(self) -> bool:
        """Whether it is open."""
        return self.head.isChecked()

    def unfold(self, unfolded: bool) -> None:
        """Open it, or close it."""
        self.head.setChecked(unfolded)
        self._turn()

    def _turn(self) -> None:
        unfolded = self.is_unfolded
        self.head.setText(f"{'▾' if unfolded else '▸'} {self.title}")
        self.body.setVisible(unfolded)
        self.says.setVisible(not unfolded)
