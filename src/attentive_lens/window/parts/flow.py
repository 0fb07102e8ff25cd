"""A row of controls that goes on in the next line where it does not fit, and a pair that stands or lies by its room."""

from __future__ import annotations

from PyQt6.QtCore import QRect, QSize, Qt
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QBoxLayout, QLayout, QLayoutItem, QWidget


class Flow(QLayout):
    """Widgets side by side at the width they want, in as many lines as they need; hidden ones take no room.

    Parameters
    ----------
    of : QWidget or None
        Whose layout it is; None where it stands in another.
    spacing : int
        Pixels between two widgets, and between two lines.
    """

    def __init__(self, of: QWidget | None = None, spacing: int = 6) -> None:
        super().__init__(of)
        self._items: list[QLayoutItem] = []
        self._heights: dict[int, int] = {}
        self.setContentsMargins(0, 0, 0, 0)
        self.setSpacing(spacing)

    def addItem(self, item: QLayoutItem | None) -> None:
        """Behind the others."""
        if item is not None:
            self._items.append(item)

    def count(self) -> int:
        """How many there are."""
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        """One of them."""
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        """One of them, which is in it no more."""
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        """None: what is left over stays free."""
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        """The narrower, the more lines."""
        return True

    def heightForWidth(self, width: int) -> int:
        """Pixels of all lines; it is asked often, and changes with what stands in them alone."""
        if width not in self._heights:
            self._heights[width] = self._arrange(QRect(0, 0, width, 0), move=False)
        return self._heights[width]

    def invalidate(self) -> None:
        """Something in it is larger, smaller, there or gone."""
        self._heights.clear()
        super().invalidate()

    def setGeometry(self, rect: QRect) -> None:
        """Put every widget in its place."""
        super().setGeometry(rect)
        self._arrange(rect, move=True)

    def sizeHint(self) -> QSize:
        """All in one line."""
        sizes = [item.sizeHint() for item in self._items if not item.isEmpty()]
        wide = sum(size.width() for size in sizes) + self.spacing() * max(0, len(sizes) - 1)
        return QSize(wide, max((size.height() for size in sizes), default=0))

    def minimumSize(self) -> QSize:
        """The widest one must fit."""
        sizes = [item.minimumSize() for item in self._items if not item.isEmpty()]
        width, height = (max((get(size) for size in sizes), default=0) for get in (QSize.width, QSize.height))
        return QSize(width, height)

    def _arrange(self, rect: QRect, move: bool) -> int:
        """Line by line, each widget in the middle of its line; gives the height of all."""
        lines: list[list[tuple[QLayoutItem, QSize]]] = [[]]
        left = 0
        for item in self._items:
            if item.isEmpty():
                continue
            size = item.sizeHint().expandedTo(item.minimumSize())
            size.setWidth(min(size.width(), max(rect.width(), item.minimumSize().width())))
            if lines[-1] and left + size.width() > rect.width():
                lines.append([])
                left = 0
            lines[-1].append((item, size))
            left += size.width() + self.spacing()
        top = rect.top()
        for line in lines:
            tall, x = max((size.height() for _, size in line), default=0), rect.left()
            for item, size in line:
                if move:
                    item.setGeometry(QRect(x, top + (tall - size.height()) // 2, size.width(), size.height()))
                x += size.width() + self.spacing()
            top += tall + (self.spacing() if tall else 0)
        return max(0, top - rect.top() - (self.spacing() if top > rect.top() else 0))


class Turning(QWidget):
    """Widgets side by side where there is room for it, one above the other where there is not.

    Parameters
    ----------
    least : int
        Pixels of width from which they stand side by side.
    spacing : int
        Pixels between them.
    """

    def __init__(self, least: int, spacing: int = 12) -> None:
        super().__init__()
        self._least = least
        self.box = QBoxLayout(QBoxLayout.Direction.TopToBottom, self)
        self.box.setContentsMargins(0, 0, 0, 0)
        self.box.setSpacing(spacing)

    @property
    def is_wide(self) -> bool:
        """Whether they stand side by side."""
        return self.box.direction() == QBoxLayout.Direction.LeftToRight

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Turn where the width says so."""
        super().resizeEvent(event)
        wide = self.width() >= self._least
        if wide != self.is_wide:
            self.box.setDirection(QBoxLayout.Direction.LeftToRight if wide else QBoxLayout.Direction.TopToBottom)
