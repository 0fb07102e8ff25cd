"""Driving the real window by object name."""

from __future__ import annotations

from typing import TypeVar

from PyQt6.QtCore import QObject, Qt
from PyQt6.QtWidgets import QLabel, QLineEdit, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.parts.drawn_sheet import DrawnSheet

LEFT = Qt.MouseButton.LeftButton

W = TypeVar("W", bound=QObject)


def child(frame: QWidget, kind: type[W], name: str) -> W:
    result = frame.findChild(kind, name)
    assert result is not None, name
    return result


def click(qtbot: QtBot, frame: QWidget, name: str) -> None:
    qtbot.mouseClick(child(frame, QPushButton, name), LEFT)


def enter(frame: QWidget, name: str, words: str) -> None:
    """Write into a line, and leave it."""
    line = child(frame, QLineEdit, name)
    line.setText(words)
    line.editingFinished.emit()


def stage(qtbot: QtBot, frame: Frame, key: str) -> None:
    qtbot.mouseClick(frame.rail.buttons[key], LEFT)
    assert frame.current == key


def to_explain(qtbot: QtBot, frame: Frame, image: int) -> ExplainPage:
    """Through the stages, each painted, to an image as run 1 answers it."""
    for key in ("network", "training", "results"):
        stage(qtbot, frame, key)
        frame.grab()
    frame.session.runs.choose(1)
    stage(qtbot, frame, "explain")
    page = frame.page("explain")
    assert isinstance(page, ExplainPage)
    page.open_image(image)
    return page


def said(frame: QWidget, name: str) -> str:
    """A label's text."""
    return child(frame, QLabel, name).text()


def drawn_sheet(qtbot: QtBot, frame: QWidget, word: str) -> DrawnSheet:
    """What a run drew, in the view of that name, once it is there."""
    click(qtbot, frame, f"{word} of scores")
    result = child(frame, DrawnSheet, f"{word} sheet")
    qtbot.waitUntil(lambda: bool(result.pictures), timeout=30_000)
    return result


def begin(qtbot: QtBot, frame: Frame, epochs: int = 200) -> None:
    """Start a run that goes on for long, and wait for its first epoch."""
    frame.session.design.change(frame.session.workspace.run(1).plan().changed({"training.epochs": epochs, "seed": 8}))
    click(qtbot, frame, "main action")
    qtbot.waitUntil(lambda: bool(frame.session.runs.view and frame.session.runs.view.epochs), timeout=60_000)
