"""Every control of a page, and what a hand does to it."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSlider,
    QAbstractSpinBox,
    QComboBox,
    QFileDialog,
    QInputDialog,
    QLineEdit,
    QMenu,
    QMessageBox,
    QPlainTextEdit,
    QScrollBar,
    QWidget,
)

Deed = Callable[[], object]


def deeds(page: QWidget, beside: frozenset[str] = frozenset()) -> Iterator[tuple[str, Deed]]:
    """What can be done to the controls of a page that are seen and not grey, by name; those ``beside`` are left out."""
    names: set[str] = set()
    for widget in page.findChildren(QWidget):
        if not widget.isVisible() or not widget.isEnabled() or isinstance(widget.parent(), QComboBox):
            continue
        kind = type(widget).__name__
        name = f"{widget.objectName() or widget.accessibleName() or kind}"
        if name in beside or isinstance(widget, QScrollBar):
            continue
        for words, deed in _deeds_of(widget):
            whole = f"{name}{words}"
            while whole in names:
                whole += "'"
            names.add(whole)
            yield whole, deed


def _deeds_of(widget: QWidget) -> Iterator[tuple[str, Deed]]:
    if isinstance(widget, QAbstractButton):
        yield "", widget.click
    elif isinstance(widget, QComboBox):
        count = widget.count()
        for place in sorted({0, count // 2, count - 1} - {-1, widget.currentIndex()}):
            yield f" · {place}", lambda place=place: _choose(widget, place)
    elif isinstance(widget, QAbstractSpinBox):
        yield " up", widget.stepUp
        yield " down", widget.stepDown
    elif isinstance(widget, QAbstractSlider):
        for word, value in (("first", widget.minimum()), ("last", widget.maximum())):
            yield f" {word}", lambda value=value: widget.setValue(value)
    elif isinstance(widget, QLineEdit) and not isinstance(widget.parent(), QAbstractSpinBox):
        yield " typed", lambda: _type(widget)
    elif isinstance(widget, QPlainTextEdit):
        yield " typed", lambda: widget.setPlainText(widget.toPlainText() + "\n[nothing]")
    elif isinstance(widget, QAbstractItemView):
        yield " row", lambda: _choose_row(widget)
    elif widget.focusPolicy() & Qt.FocusPolicy.ClickFocus:
        yield " keys", lambda: _press(widget)
        yield " middle", lambda: QTest.mouseClick(widget, Qt.MouseButton.LeftButton)


def _choose(box: QComboBox, place: int) -> None:
    if place < box.count():
        box.setCurrentIndex(place)
        box.activated.emit(place)


def _type(field: QLineEdit) -> None:
    field.setText("3")
    QTest.keyClick(field, Qt.Key.Key_Return)


def _choose_row(view: QAbstractItemView) -> None:
    model = view.model()
    if model is not None and model.rowCount():
        view.setCurrentIndex(model.index(model.rowCount() - 1, 0))


def _press(widget: QWidget) -> None:
    for key in (
        Qt.Key.Key_Right,
        Qt.Key.Key_Down,
        Qt.Key.Key_Return,
        Qt.Key.Key_Space,
        Qt.Key.Key_X,
        Qt.Key.Key_Delete,
    ):
        QTest.keyClick(widget, key)


def answer_dialogs(patch: pytest.MonkeyPatch) -> None:
    """Whatever is asked in a window of its own is given up at once."""
    for name, answer in (
        ("getSaveFileName", ("", "")),
        ("getOpenFileName", ("", "")),
        ("getOpenFileNames", ([], "")),
        ("getExistingDirectory", ""),
    ):
        patch.setattr(QFileDialog, name, lambda *_, answer=answer, **__: answer)
    for name, nothing in (("getInt", (1, False)), ("getText", ("", False)), ("getItem", ("", False))):
        patch.setattr(QInputDialog, name, lambda *_, nothing=nothing, **__: nothing)
    patch.setattr(QMessageBox, "question", lambda *_, **__: QMessageBox.StandardButton.No)
    patch.setattr(QMenu, "exec", lambda *_, **__: None)
    patch.setattr(QMenu, "popup", lambda *_, **__: None)
