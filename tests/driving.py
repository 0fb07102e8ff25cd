"""Driving the real window by object name."""

from __future__ import annotations

from typing import TypeVar

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton, QWidget
from pytestqt.qtbot import QtBot

from attentive_lens.window.frame import Frame

LEFT = Qt.MouseButton.LeftButton

W = TypeVar("W", bound=QWidget)


def child(frame: QWidget, kind: type[W], name: str) -> W:
    found = frame.findChild(kind, name)
    assert found is not None, name
    return found


def click(qtbot: QtBot, frame: QWidget, name: str) -> None:
    qtbot.mouseClick(child(frame, QPushButton, name), LEFT)


def stage(qtbot: QtBot, frame: Frame, key: str) -> None:
    qtbot.mouseClick(frame.rail.buttons[key], LEFT)
    assert frame.current == key
