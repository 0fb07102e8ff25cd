"""A model file in a window of its own, through its real controls; and what else is opened from outside or by keys."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QApplication, QFileDialog, QLabel, QMenu, QPushButton
from pytestqt.qtbot import QtBot
from tests.driving import child, click, said
from tests.window.fitting import unreadable
from tests.window.test_images_stage import drop

from attentive_lens.desk.remembering import remember
from attentive_lens.window.application import open_place
from attentive_lens.window.frame import Frame
from attentive_lens.window.importing import ImportWindow
from attentive_lens.window.model_window import ModelWindow
from attentive_lens.window.parts.bars import ROW, Bars
from attentive_lens.window.presence import Presence, ask_to_front
from attentive_lens.window.workspace_menu import WorkspaceMenu
from attentive_lens.workspace import Workspace

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def open_model(qtbot: QtBot) -> Iterator[Callable[[Path], ModelWindow]]:
    windows: list[ModelWindow] = []

    def open_one(file: Path) -> ModelWindow:
        window = open_place(file)
        assert isinstance(window, ModelWindow)
        windows.append(window)
        window.show()
        qtbot.waitUntil(
            lambda: window.opened is not None or window.message.text() not in ("", "Reading the model …"),
            timeout=30_000,
        )
        return window

    yield open_one
    for window in windows:
        window.close()
        window.deleteLater()


def pictures(workspace: Workspace) -> list[Path]:
    return [workspace.folder / row.file for row in workspace.catalogue.images()]


def answered(qtbot: QtBot, window: ModelWindow, file: Path) -> None:
    qtbot.waitUntil(
        lambda: (shown := window.explanation) is not None and shown.file == str(file) and shown.complete, timeout=60_000
    )


def test_a_model_is_told_tried_and_explained_without_a_workspace(
    qtbot: QtBot, open_model: Callable[[Path], ModelWindow], station: Workspace, tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    alone = tmp_path / "elsewhere" / "grains.alens"
    alone.parent.mkdir()
    shutil.copy(station.run(1).model, alone)
    window = open_model(alone)
    assert window.windowTitle().startswith("grains.alens")
    assert said(window, "model about") == "6 classes" and "spiny" in said(window, "model classes")
    assert said(window, "model layers") == str(len(window.opened.network.nodes)) if window.opened else False
    assert len(window.bench.plates) > 3
    first, second = pictures(station)[:2]
    names = lambda *_: ([str(first), str(second)], "")  # noqa: E731
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", names)
    click(qtbot, window, "try images")
    answered(qtbot, window, first)
    shown = window.explanation
    assert shown is not None and shown.true is None and window.stack.currentIndex() == 1
    runner_up = sorted(shown.probabilities, key=lambda name: -shown.probabilities[name])[1]
    assert shown.maps[1].target == runner_up, "the next class stands against it"
    bars = child(window, Bars, "answers")
    assert [bar.name for bar in bars.bars] == sorted(shown.probabilities, key=lambda name: -shown.probabilities[name])
    assert bars.bars[0].role == "ink", "nobody knows whether it is wrong"
    qtbot.mouseClick(bars, LEFT, pos=QPoint(20, 3 * ROW + 4))
    other = bars.bars[3].name
    qtbot.waitUntil(lambda: bool(window.explanation and window.explanation.maps[1].target == other), timeout=60_000)
    qtbot.mouseClick(window.tried, LEFT, pos=QPoint(20, 40))
    answered(qtbot, window, second)
    qtbot.keyClick(window.tried, Qt.Key.Key_Up)
    answered(qtbot, window, first)
    for size in ((1280, 800), (1024, 640)):
        window.resize(*size)
        QApplication.processEvents()
        window.grab()
        assert not list(unreadable(window)), size


def test_what_is_no_image_is_told_and_the_others_are_answered(
    qtbot: QtBot, open_model: Callable[[Path], ModelWindow], station: Workspace, tmp_path: Path
) -> None:
    window = open_model(station.run(1).model)
    (tmp_path / "broken.png").write_text("no picture")
    drop(window, tmp_path / "broken.png")
    qtbot.waitUntil(lambda: "broken.png" in window.message.text() and "Explaining" not in window.message.text())
    assert window.explanation is None
    drop(window, pictures(station)[0])
    answered(qtbot, window, pictures(station)[0])
    assert window.tried.count() == 2


def test_of_several_labels_the_surest_is_told_until_another_is_chosen(
    qtbot: QtBot, open_model: Callable[[Path], ModelWindow], fields: Workspace
) -> None:
    window = open_model(fields.run(1).model)
    assert said(window, "model about") == "6 labels"
    first, second = pictures(fields)[:2]
    window.try_images([first, second])
    answered(qtbot, window, first)
    shown = window.explanation
    assert shown is not None
    surest = max(shown.labels, key=lambda each: each.probability).name
    assert set(shown.probabilities) == {surest, f"not {surest}"}
    bars = child(window, Bars, "answers")
    other = bars.bars[2].name
    qtbot.mouseClick(bars, LEFT, pos=QPoint(20, 2 * ROW + 4))
    qtbot.waitUntil(lambda: bool(window.explanation and other in window.explanation.probabilities), timeout=60_000)
    window.show_image(1)
    answered(qtbot, window, second)
    assert window.explanation is not None and other in window.explanation.probabilities


def test_a_file_that_is_no_model_says_so(
    open_model: Callable[[Path], ModelWindow], tmp_path: Path, station: Workspace
) -> None:
    broken = tmp_path / "broken.alens"
    broken.write_bytes(station.run(1).model.read_bytes()[:5000])
    window = open_model(broken)
    assert "broken.alens" in window.message.text() and not child(window, QPushButton, "try images").isEnabled()
    other = tmp_path / "other.onnx"
    other.write_bytes(b"x")
    assert "import-model" in open_model(other).message.text()


def test_it_is_built_on_in_a_workspace(
    qtbot: QtBot, open_model: Callable[[Path], ModelWindow], station: Workspace, tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    file = tmp_path / "meadow.alens"
    shutil.copy(station.run(1).model, file)
    window = open_model(file)
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(station.folder))
    window._ask_workspace()
    qtbot.waitUntil(lambda: isinstance(window.other, Frame), timeout=30_000)
    frame = window.other
    assert isinstance(frame, Frame) and station.shelf.models()[0].name == "meadow"
    qtbot.waitUntil(lambda: frame.session.images.pixels is not None, timeout=30_000)
    assert open_place(station.folder) is frame, "it is open already"
    assert frame.current == "shelf"
    qtbot.waitUntil(lambda: said(frame, "shelf title") == "meadow", timeout=30_000)
    frame.close()
    window.put_on_shelf(tmp_path)
    qtbot.waitUntil(lambda: "not a workspace" in window.message.text(), timeout=30_000)


def test_what_is_opened_decides_the_window(qtbot: QtBot, station: Workspace, tmp_path: Path) -> None:
    window = open_place(tmp_path)
    assert isinstance(window, ImportWindow)
    qtbot.addWidget(window)
    window.show()
    folder = open_place(station.folder / "images")
    assert isinstance(folder, ImportWindow)
    qtbot.addWidget(folder)
    folder.show()
    qtbot.waitUntil(lambda: bool(folder.ways), timeout=30_000)


def test_workspaces_are_opened_and_closed_by_menu_and_keys(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], station: Workspace, monkeypatch: pytest.MonkeyPatch,
    tmp_path: Path,
) -> None:  # fmt: skip
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    frame = open_frame(station)
    name = child(frame, WorkspaceMenu, "workspace name")
    assert name.text() == station.name
    keys = [action.shortcut().toString() for action in name.menu_shown.actions() if not action.shortcut().isEmpty()]
    assert keys == [keys for _, keys, _ in name.entries] and len(set(keys)) == len(keys)
    chosen: list[Path] = []
    frame._open_place = lambda place: chosen.append(place) or frame  # type: ignore[func-returns-value,assignment]
    name._open = frame._open_other
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(tmp_path))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "x.alens"), ""))
    for action in name.menu_shown.actions()[:5]:
        action.trigger()
    assert chosen == [tmp_path, tmp_path, tmp_path / "x.alens", tmp_path / "x.alens"]
    other = tmp_path / "other"
    shutil.copytree(station.folder, other)
    remember(other, {})
    remember(station.folder, {})
    name.menu_shown.aboutToShow.emit()
    recent = child(frame, QMenu, "recent workspaces")
    assert [action.text() for action in recent.actions()] == ["other"]
    recent.actions()[0].trigger()
    assert chosen[-1] == other
    qtbot.keyClick(frame, Qt.Key.Key_W, Qt.KeyboardModifier.ControlModifier)
    assert not frame.isVisible()


def test_who_opens_it_again_from_another_process_has_the_window_in_front(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], station: Workspace
) -> None:
    frame = open_frame(station)
    frame.showMinimized()
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    words = [sys.executable, "-m", "attentive_lens", str(station.folder)]
    process = subprocess.Popen(words, stdout=subprocess.PIPE, text=True, env=environment)
    qtbot.waitUntil(lambda: process.poll() is not None, timeout=30_000)
    assert process.returncode == 0 and "brought to the front" in process.communicate()[0]
    assert not frame.isMinimized()


def test_a_window_that_is_gone_holds_nobody_up(qtbot: QtBot, tmp_path: Path) -> None:
    calls: list[int] = []
    assert not ask_to_front(tmp_path)
    first = Presence(tmp_path, lambda: calls.append(1))
    second = Presence(tmp_path, lambda: calls.append(2))
    second.close()
    first.close()
    assert not ask_to_front(tmp_path) and not calls
    child_label = QLabel()
    qtbot.addWidget(child_label)
