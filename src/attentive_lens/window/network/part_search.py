"""A box in which a layer or block is found by typing its name, and put where it was asked for."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent
from PyQt6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QWidget

from attentive_lens.plan.blocks import BLOCKS
from attentive_lens.plan.layers import LAYERS
from attentive_lens.window import look
from attentive_lens.window.parts.basics import label, vertical

WIDE, TALL = 520, 300


def matching(words: str) -> list[str]:
    """Kinds of layer and block that a few words mean: those whose name begins with them, has them, or is about them."""
    parts = words.lower().split()
    ideas = {kind: part.idea.lower() for kind, part in (*LAYERS.items(), *BLOCKS.items()) if kind != "output"}
    ranked: list[tuple[int, int, str]] = []
    for place, (kind, idea) in enumerate(ideas.items()):
        if kind.startswith(words.lower().strip()):
            ranked.append((0, place, kind))
        elif all(part in kind for part in parts):
            ranked.append((1, place, kind))
        elif all(part in f"{kind} {idea}" for part in parts):
            ranked.append((2, place, kind))
    return [kind for _, _, kind in sorted(ranked)]


class PartSearch(QFrame):
    """Type, choose with the arrows, Return puts it in.

    Signals
    -------
    picked
        The kind of layer or block.
    """

    picked = pyqtSignal(str)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("part search")
        self.setAccessibleName("add a layer or block")
        self.setProperty("role", "box")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedSize(WIDE, TALL)
        inside = vertical(self, spacing=6, margins=(12, 10, 12, 12))
        self.title = label(role="faint", size=look.SMALL, name="part search title")
        inside.addWidget(self.title)
        self.line = _Line(self)
        self.line.setObjectName("part search line")
        self.line.setAccessibleName("name of a layer or block")
        self.line.setPlaceholderText("name of a layer or block …")
        self.line.setFont(look.font())
        self.line.textChanged.connect(self._list)
        self.line.returnPressed.connect(self._pick)
        inside.addWidget(self.line)
        self.list = QListWidget()
        self.list.setObjectName("part search list")
        self.list.setFont(look.font())
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setTextElideMode(Qt.TextElideMode.ElideRight)
        self.list.itemClicked.connect(lambda _: self._pick())
        inside.addWidget(self.list)
        self.hide()

    def open_at(self, point: QPoint, where: str) -> None:
        """Show it near a point of its parent, empty; ``where`` says what will be put in where."""
        self.title.setText(where)
        self.line.clear()
        self._list()
        parent = self.parentWidget()
        if parent is not None:
            x = min(max(8, point.x() - WIDE // 2), max(8, parent.width() - WIDE - 8))
            y = min(max(8, point.y() + 14), max(8, parent.height() - TALL - 8))
            self.move(x, y)
        self.show()
        self.raise_()
        self.line.setFocus()

    def _list(self) -> None:
        self.list.clear()
        for kind in matching(self.line.text()):
            block = kind in BLOCKS
            part = BLOCKS[kind] if block else LAYERS[kind]
            item = QListWidgetItem(f"{kind}{' (block)' if block else ''}  ·  {part.idea}")
            item.setData(Qt.ItemDataRole.UserRole, kind)
            item.setToolTip(part.idea)
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def move_choice(self, by: int) -> None:
        """Choose another line of the list."""
        self.list.setCurrentRow(min(max(self.list.currentRow() + by, 0), self.list.count() - 1))

    def _pick(self) -> None:
        item = self.list.currentItem()
        if item is not None:
            self.hide()
            self.picked.emit(str(item.data(Qt.ItemDataRole.UserRole)))

    def close_box(self) -> None:
        """Give it up."""
        self.hide()
        parent = self.parentWidget()
        if parent is not None:
            parent.setFocus()


class _Line(QLineEdit):
    """The field, whose arrows move the choice below it."""

    def __init__(self, box: PartSearch) -> None:
        super().__init__()
        self._box = box

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        move = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key())) if event is not None else None
        if event is not None and event.key() == Qt.Key.Key_Escape:
            self._box.close_box()
        elif move is not None:
            self._box.move_choice(move)
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        super().focusOutEvent(event)
        if event is not None and event.reason() != Qt.FocusReason.ActiveWindowFocusReason:
            self._box.hide()
