"""The Shelf in the window: put a run there, name it, compare, prove, build on it, take it off and undo that."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QSpinBox,
)
from pytestqt.qtbot import QtBot
from tests.driving import child, click
from tests.window.test_models_travel import drop

from attentive_lens.formats.reading import read_model
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.shelf import ShelfPage
from attentive_lens.window.shelf.models_list import ROW, ModelsList
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]


def own(frame: Frame) -> list[str]:
    return [model.name for model in frame.session.shelf.models or () if not model.ships]


def shelf_of(qtbot: QtBot, frame: Frame) -> ShelfPage:
    frame.show_stage("shelf")
    page = frame.page("shelf")
    assert isinstance(page, ShelfPage)
    qtbot.waitUntil(lambda: frame.session.shelf.models is not None, timeout=60_000)
    return page


def test_a_run_is_put_there_named_noted_taken_off_and_all_of_it_undone(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    page = shelf_of(qtbot, frame)
    assert child(frame, QPushButton, "put run").text() == "Put run 1 here"
    click(qtbot, frame, "put run")
    qtbot.waitUntil(lambda: own(frame) == ["two blocks"], timeout=60_000)
    assert child(frame, QLabel, "shelf title").text() == "two blocks"
    assert "weights" in child(frame, QLabel, "shelf about").text()
    qtbot.waitUntil(lambda: bool(page.bench.plates) and page.bench.plates[-1].name == "output", timeout=60_000)
    name = child(frame, QLineEdit, "model name")
    name.setFocus()
    name.selectAll()
    qtbot.keyClicks(name, "grains")
    qtbot.keyClick(name, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: own(frame) == ["grains"], timeout=60_000)
    assert page.current == "grains"
    note = child(frame, QPlainTextEdit, "model note")
    note.setFocus()
    qtbot.keyClicks(note, "good at stains")
    page.list.setFocus()
    qtbot.waitUntil(lambda: page.model is not None and page.model.note == "good at stains", timeout=60_000)
    click(qtbot, frame, "take off")
    qtbot.waitUntil(lambda: own(frame) == [], timeout=60_000)
    for left in (["grains"], ["grains"], ["two blocks"], []):
        frame.session.step_back()
        qtbot.waitUntil(lambda wanted=left: own(frame) == wanted, timeout=60_000)  # type: ignore[misc]
    frame.session.step_back(forward=True)
    qtbot.waitUntil(lambda: own(frame) == ["two blocks"], timeout=60_000)


def test_a_name_that_is_taken_is_refused_and_the_old_one_stands(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    page = shelf_of(qtbot, frame)
    for count in (1, 2):
        click(qtbot, frame, "put run")
        qtbot.waitUntil(lambda wanted=count: len(own(frame)) == wanted, timeout=60_000)  # type: ignore[misc]
    page.show_model("two blocks 2")
    page._rename("two blocks")
    assert "taken" in frame.bottom.message.text()
    assert child(frame, QLineEdit, "model name").text() == "two blocks 2"
    assert own(frame) == ["two blocks", "two blocks 2"]


def test_rows_are_chosen_by_mouse_and_keys_and_two_models_stand_side_by_side(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    station.shelf.put("a", lambda file: read_model(station.run(1).model).write(file, half=True), station_said())
    station.shelf.put("b", lambda file: file.write_bytes(b"no model"), station_said())
    frame = open_frame(station)
    page = shelf_of(qtbot, frame)
    rows = child(frame, ModelsList, "models list")
    qtbot.waitUntil(lambda: len(own(frame)) == 2, timeout=60_000)
    qtbot.mouseClick(rows, Qt.MouseButton.LeftButton, pos=QPointF(20, ROW * 1.5).toPoint())
    assert page.current == "b"
    assert "could not be" in child(frame, QLabel, "model problem").text()
    assert page.action() == ("Build on it", False)
    assert not page.verify.isEnabled()
    qtbot.keyClick(rows, Qt.Key.Key_Up)
    assert page.current == "a"
    frame.step_way()
    assert page.current == "b", "Alt+Left leads back to the model before"
    page.show_model("a")
    chooser = child(frame, QComboBox, "compare with")
    names = [chooser.itemText(k) for k in range(chooser.count())]
    assert "b" not in names, "what cannot be read is compared with nothing"


def station_said():  # type: ignore[no-untyped-def]
    from attentive_lens.workspace import Said

    return Said("here")


def test_a_model_is_proved_copied_and_built_on(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    frame = open_frame(station)
    shelf_of(qtbot, frame)
    says = child(frame, QLabel, "shelf result")
    click(qtbot, frame, "put run")
    qtbot.waitUntil(lambda: own(frame) == ["two blocks"], timeout=60_000)
    click(qtbot, frame, "verify model")
    qtbot.waitUntil(lambda: "to the last digit" in says.text(), timeout=60_000)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "copy.alens"), ""))
    click(qtbot, frame, "export from shelf")
    qtbot.waitUntil(lambda: "copy.alens: " in says.text(), timeout=60_000)
    assert (tmp_path / "copy.alens").read_bytes() == station.run(1).model.read_bytes()
    click(qtbot, frame, "main action")
    assert frame.current == "network"
    base = frame.session.design.plan.base
    assert base is not None
    assert (base.model, base.frozen, base.until) == ("shelf:two blocks", True, "max pooling 2")
    assert child(frame, QComboBox, "base run").currentText() == "two blocks · Shelf"
    assert frame.session.design.sound


def test_a_file_dropped_while_the_shelf_is_shown_stays_there(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    shelf_of(qtbot, frame)
    drop(frame, station.run(1).model)
    qtbot.waitUntil(lambda: own(frame) == ["best"], timeout=60_000)
    assert frame.current == "shelf"
    assert frame.session.design.plan.base is None


def test_a_shelf_that_cannot_be_written_is_shown_for_reading(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    first = open_frame(station)
    second = open_frame(station)
    assert second.session.reading_only
    shelf_of(qtbot, second)
    assert not child(second, QPushButton, "put run").isEnabled()
    assert not child(second, QPushButton, "take off").isEnabled()
    assert first.session.shelf.models is None or own(first) == []


def test_a_base_that_learns_on_is_tuned_beside_the_bench(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    frame.show_stage("network")
    page = frame.page("network")
    page.show_base()
    box, frozen = child(frame, QComboBox, "base run"), child(frame, QCheckBox, "base frozen")
    tuning = child(frame, QSpinBox, "base.head_warmup_epochs")
    box.setCurrentIndex(box.findData("1"))
    box.activated.emit(box.currentIndex())
    assert not tuning.isVisible(), "of what is frozen nothing is tuned"
    frozen.click()
    assert tuning.isVisible()
    tuning.setValue(2)
    rate = child(frame, QLineEdit, "base.lr_decay")
    rate.setText("0.5")
    rate.editingFinished.emit()
    base = frame.session.design.plan.base
    assert base is not None
    assert base.finely == (2, 0, 0.5, "learned")
    frozen.click()
    base = frame.session.design.plan.base
    assert base is not None
    assert base.frozen
    assert base.finely == (0, 0, 1.0, "learned"), "frozen again, nothing of it is left"
    assert not tuning.isVisible()
