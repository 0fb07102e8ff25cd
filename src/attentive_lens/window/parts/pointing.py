"""The pointer says what a press would do: one shape over what opens or is chosen, others over what is moved or read."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QEvent, QObject, QPoint, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QAbstractScrollArea, QWidget

Over = Callable[[QPoint], bool]

ARROW = Qt.CursorShape.ArrowCursor
PRESS = Qt.CursorShape.PointingHandCursor
"""Over what a press opens or chooses."""
READ = Qt.CursorShape.CrossCursor
"""Over what is read, or a part of which is marked, where the pointer is."""
HOLD = Qt.CursorShape.OpenHandCursor
"""Over what is taken along."""
SIDEWAYS = Qt.CursorShape.SizeHorCursor
"""Over what is moved to the left and right."""


class _Pointer(QObject):
    """Gives a widget its pointer while no button is held."""

    def __init__(self, of: QWidget, over: Over, shape: Qt.CursorShape) -> None:
        super().__init__(of)
        self._of, self._over, self._shape = of, over, shape
        of.setMouseTracking(True)
        of.installEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Look at what is under the mouse; the event goes on."""
        if isinstance(event, QMouseEvent) and event.type() == QEvent.Type.MouseMove and not event.buttons():
            shape = self._shape if self._over(event.pos()) else ARROW
            if self._of.cursor().shape() != shape:
                self._of.setCursor(shape)
        return False


def everywhere(_: QPoint) -> bool:
    """A press does the same all over the widget."""
    return True


def points(widget: QWidget, over: Over = everywhere, shape: Qt.CursorShape = PRESS) -> None:
    """Give a widget that draws itself a pointer of this shape where ``over`` says that a press does something.

    Parameters
    ----------
    widget : QWidget
        What is pressed; of what scrolls, its contents are meant.
    over : callable
        Whether there is something, at a place in the widget's pixels.
    shape : Qt.CursorShape
        One of this module's.
    """
    port = widget.viewport() if isinstance(widget, QAbstractScrollArea) else widget
    if port is not None:
        _Pointer(port, over, shape)


def _is_row(count: Callable[[], int], height: int, top: int, at: QPoint) -> bool:
    return 0 <= (at.y() - top) // height < count()


def rows(count: Callable[[], int], height: int, top: int = 0) -> Over:
    """Over one of so many rows of a height, in pixels, the first at ``top``."""
    return partial(_is_row, count, height, top)
