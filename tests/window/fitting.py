"""What of a window's words cannot be read: cut, laid over each other, or pushed out of sight."""

from __future__ import annotations

from collections.abc import Iterator

from PyQt6.QtCore import QPoint, QRect
from PyQt6.QtWidgets import (
    QAbstractScrollArea,
    QAbstractSpinBox,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QPushButton,
    QSlider,
    QStyle,
    QStyleOptionComboBox,
    QWidget,
)

from attentive_lens.window.parts.basics import Chooser, OneLine
from attentive_lens.window.parts.picture import PictureBox

NAME = 30
"""Letters from which what is chosen is taken for a name that somebody gave, and needs to begin in sight only."""
SLACK = 1
"""Pixels by which a text may miss its room: figures are rounded."""
WITH_WORDS = (QLabel, QPushButton, QCheckBox, QComboBox, QAbstractSpinBox, QLineEdit)


def words_of(widget: QWidget) -> str:
    """What stands on it."""
    if isinstance(widget, QComboBox):
        return widget.currentText()
    if isinstance(widget, QAbstractSpinBox | QLineEdit):
        return widget.text()
    return widget.text() if isinstance(widget, QLabel | QPushButton | QCheckBox) else ""


def room_and_need(widget: QWidget) -> tuple[int, int]:
    """Pixels of width that its words have, and need."""
    need = max(widget.fontMetrics().horizontalAdvance(line) for line in words_of(widget).splitlines() or [""])
    if isinstance(widget, QComboBox):
        option = QStyleOptionComboBox()
        widget.initStyleOption(option)
        style = widget.style()
        field = QStyle.SubControl.SC_ComboBoxEditField
        box = style.subControlRect(QStyle.ComplexControl.CC_ComboBox, option, field, widget)  # type: ignore[union-attr]
        return box.width(), need
    if isinstance(widget, QCheckBox):
        return widget.width(), widget.minimumSizeHint().width()
    if isinstance(widget, QPushButton):
        return widget.width(), need + 4
    if isinstance(widget, QLabel):
        return widget.contentsRect().width(), need
    return widget.width(), need + 12


def is_scrolled(widget: QWidget) -> bool:
    """Whether it is in something that can be scrolled to it."""
    parent = widget.parentWidget()
    while parent is not None:
        if isinstance(parent.parentWidget(), QAbstractScrollArea):
            return True
        parent = parent.parentWidget()
    return False


def unreadable(root: QWidget) -> Iterator[str]:
    """A sentence for each text that cannot be read whole.

    Elided texts of one line (`OneLine`) and lists' entries are whole in their tooltips; what is scrolled can be brought
    into sight, but has its own room all the same.
    """
    shown = [w for w in root.findChildren(QWidget) if isinstance(w, WITH_WORDS) and w.isVisibleTo(root) and words_of(w)]
    shown = [w for w in shown if not isinstance(w.parentWidget(), QComboBox | QAbstractSpinBox)]
    placed: list[tuple[QWidget, QRect]] = []
    for widget in shown:
        name = f"{type(widget).__name__} «{widget.objectName()}» «{words_of(widget)[:60]}»"
        if isinstance(widget, QLabel) and widget.wordWrap():
            if widget.heightForWidth(widget.width()) > widget.height() + SLACK:
                yield f"{name}: {widget.height()} pixels of height for {widget.heightForWidth(widget.width())}"
        elif not isinstance(widget, OneLine | QLineEdit):
            room, need = room_and_need(widget)
            if isinstance(widget, Chooser) and len(words_of(widget)) > NAME:
                need = min(need, NAME * 4)  # a name that somebody gave ends in an ellipsis
            if need > room + SLACK and "…" not in words_of(widget):
                yield f"{name}: {room} pixels for {need}"
        whole = QRect(widget.mapTo(root, QPoint(0, 0)), widget.size())
        if not is_scrolled(widget):
            if widget.isVisible() and widget.visibleRegion().boundingRect().size() != widget.size():
                yield f"{name}: a part of it is out of sight"
            placed.append((widget, whole.adjusted(SLACK, SLACK, -SLACK, -SLACK)))
    for picture in root.findChildren(PictureBox):
        if picture.isVisibleTo(root) and not is_scrolled(picture):
            placed.append((picture, QRect(picture.mapTo(root, QPoint(0, 0)), picture.size())))
    for k, (one, box) in enumerate(placed):
        for other, place in placed[k + 1 :]:
            if box.intersects(place) and not one.isAncestorOf(other) and not other.isAncestorOf(one):
                names = [words_of(each)[:40] or each.objectName() for each in (one, other)]
                yield f"«{names[0]}» and «{names[1]}» lie over each other"


CONTROLS = (QPushButton, QComboBox, QSlider, QAbstractSpinBox, QLineEdit, QCheckBox)


def controls(root: QWidget) -> list[QWidget]:
    """What can be pressed, chosen or typed in and is in sight; a list's own field is a part of it."""
    seen = [each for each in root.findChildren(QWidget) if isinstance(each, CONTROLS) and each.isVisible()]
    whole = [each for each in seen if not isinstance(each.parentWidget(), QComboBox | QAbstractSpinBox)]
    return [each for each in whole if not each.visibleRegion().isEmpty()]
