"""All keys of the window, and the list of them that ? shows."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QWidget

from attentive_lens.window import look
from attentive_lens.window.network.verbs import VERBS
from attentive_lens.window.parts.basics import button, horizontal, label, vertical

SHORTCUTS: dict[str, tuple[tuple[str, str], ...]] = {
    "Everywhere": (
        ("Ctrl+1 … Ctrl+6", "stages from Images to Explain, and the Shelf"),
        ("Ctrl+Return", "the stage's main action"),
        ("Ctrl+G", "go to an image by number or name"),
        ("Alt+Left, Alt+Right", "back to where one was, and forward"),
        ("Ctrl+Z", "take the last decision back"),
        ("Ctrl+Shift+Z", "do it again"),
        ("Ctrl+Shift+L", "light, dark, high contrast, or as the desktop"),
        ("F1", "the documents, about what is in view"),
        ("?", "this list"),
        ("Alt+W", "the menu of workspaces"),
        ("Ctrl+O, Ctrl+N, Ctrl+Shift+N", "open one, make one from a folder, from a file"),
        ("Ctrl+Shift+O", "open a model file"),
        ("Ctrl+W, Ctrl+Q", "close this window, all windows"),
    ),
    "Images": (
        ("arrows, Home, End", "move; with Shift select, with Ctrl add"),
        ("Ctrl+A", "select all that are shown"),
        ("Return, Space", "full size"),
        ("L", "another class, then its number"),
        ("S", "another set, then its number"),
        ("X", "leave out, or take back in"),
        ("F", "flag, or unflag"),
        ("E", "explain it, with the run in view"),
        ("C", "explain it and open a case"),
        ("N", "explain it and show those most alike"),
        ("Ctrl+wheel", "larger or smaller pictures"),
    ),
    "Full size": (
        ("←  →", "the image before or after"),
        ("+  −", "zoom"),
        ("Esc", "back to the pictures"),
    ),
    "Network": (
        ("←  →  ↑  ↓", "another plate; with Shift a stretch"),
        *((verb.shown, verb.line[0].lower() + verb.line[1:].removesuffix(" …")) for verb in VERBS),
        ("Ctrl+T", "the plan as text, and back"),
        ("+  −", "zoom"),
    ),
    "Results": (
        ("arrows", "another cell of the matrix"),
        ("Space", "images in a sheet, or one by one"),
        ("←  →", "one by one: the image before or after"),
        ("L  S  X  F  E  C  N", "as in Images"),
        ("Return", "explain; on the map, choose all in view"),
        ("+  −  0", "zoom the matrix or the map, fit it"),
    ),
    "Explain": (
        ("Page down, Page up", "next, previous mistake"),
        ("arrows", "move the lens"),
        ("+  −", "a larger, a smaller lens"),
        ("Space", "the map over the whole image"),
        ("Ctrl+Shift+1 … 5", "Maps to Causes"),
        ("F", "the evidence alone, or beside the lens"),
        ("Shift+drag", "cover a region of the image"),
        ("C", "open a case of the image"),
    ),
}
"""By stage: keys, and what they do."""
COLUMNS = (("Everywhere", "Full size", "Results", "Explain"), ("Images", "Network"))


class ShortcutList(QFrame):
    """The list, in the middle of the window it belongs to; any of its own keys closes it."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setProperty("role", "panel")
        self.setObjectName("shortcuts")
        self.setAccessibleName("list of keys")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        outer = vertical(self, spacing=16, margins=(28, 20, 28, 20))
        head = QHBoxLayout()
        head.addWidget(label("Keys", size=look.LARGE, strong=True))
        head.addStretch()
        head.addWidget(button("Close", "close shortcuts", "Close the list (Esc).", self.hide))
        outer.addLayout(head)
        columns = horizontal(spacing=40)
        for sections in COLUMNS:
            column = vertical(spacing=6)
            for section in sections:
                column.addWidget(label(section, strong=True))
                grid = QGridLayout()
                grid.setHorizontalSpacing(16)
                grid.setVerticalSpacing(4)
                grid.setColumnMinimumWidth(0, 140)
                grid.setColumnStretch(1, 1)
                for row, (keys, does) in enumerate(SHORTCUTS[section]):
                    grid.addWidget(label(keys, "faint"), row, 0)
                    grid.addWidget(label(does), row, 1)
                column.addLayout(grid)
                column.addSpacing(10)
            column.addStretch()
            columns.addLayout(column)
        outer.addLayout(columns)
        self.hide()

    def show_over(self) -> None:
        """Show it, or hide it if it is there."""
        if self.isVisible():
            self.hide()
            return
        self.adjustSize()
        parent = self.parentWidget()
        if parent is not None:
            self.move((parent.width() - self.width()) // 2, (parent.height() - self.height()) // 2)
        self.show()
        self.raise_()
        self.setFocus()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Escape and ? close it."""
        if event is not None and (event.key() == Qt.Key.Key_Escape or event.text() == "?"):
            self.hide()
        else:
            super().keyPressEvent(event)
