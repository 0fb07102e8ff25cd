"""The Images stage driven by hand: the split, classes, and tables beside the images."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QInputDialog,
    QLabel,
    QLineEdit,
    QPushButton,
    QSpinBox,
)
from pytestqt.qtbot import QtBot
from tests.driving import child, click, enter, said, stage

from attentive_lens.desk.requests.images import Fault, FaultAction, FaultsFound
from attentive_lens.window.frame import Frame
from attentive_lens.window.images.findings import Findings
from attentive_lens.window.images.sets import SetBars
from attentive_lens.window.images.table import ImageTable
from attentive_lens.window.pages.images import ImagesPage
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]


def test_the_split_shows_what_its_settings_do(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "images")
    click(qtbot, frame, "view sets")
    held = child(frame, QLineEdit, "split.validation_fraction")
    held.setText("0.4")
    held.editingFinished.emit()
    assert frame.session.design.plan.split.validation_fraction == 0.4
    result = frame.session.images.collection
    assert f"validation {result.count('validation', 0)}" in child(frame, SetBars, "set bars").accessibleName()
    held.setText("0")
    held.editingFinished.emit()
    assert "no validation set" in child(frame, QLabel, "split warning").text()
    child(frame, QSpinBox, "split.folds").setValue(3)
    assert frame.session.images.collection.count("validation") > 0
    pattern = child(frame, QLineEdit, "split.group_pattern")
    pattern.setText("(")
    pattern.editingFinished.emit()
    assert frame.session.design.plan.split.group_pattern == ""


def test_what_a_fault_offers_for_the_split_says_what_it_moves(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "images")
    before = frame.session.images.collection
    numbers = [row.number for row in before.rows if row.label == 0 and before.sets[row.number - 1] != "test"]
    held = [n for n in numbers if before.sets[n - 1] == "validation"]
    learned = [n for n in numbers if before.sets[n - 1] == "training"]
    pair = (held[0], learned[0])
    bind = FaultAction("keep each group in one set", (), (), (), (pair,), None, {})
    settings = {"split.keep_together": "name pattern", "split.group_pattern": "^(tape[0-9]+)"}
    by_name = FaultAction("split by the name pattern (x)", (), (), (), (), None, settings)
    grey = FaultAction("train on grey pictures", (), (), (), (), None, {"preprocessing.colour_space": "grey"})
    faults = (Fault("leak", "1 picture stands in both", "Keep it in one", pair, (pair,), (bind, by_name, grey)),)
    findings = child(frame, Findings, "faults panel")
    findings._take(FaultsFound(faults, ()))
    click(qtbot, frame, "finding 0")
    click(qtbot, frame, "remedy 0")
    after = frame.session.images.collection
    assert after.sets[pair[0] - 1] == after.sets[pair[1] - 1]
    assert "move to another set" in child(frame, QLabel, "message").text()
    click(qtbot, frame, "remedy 1")
    split = frame.session.design.plan.split
    assert (split.keep_together, split.group_pattern) == ("name pattern", "^(tape[0-9]+)")
    assert "to another set" in child(frame, QLabel, "message").text()
    click(qtbot, frame, "remedy 2")
    assert frame.session.design.plan.preprocessing.colour_space == "grey"
    assert child(frame, QLabel, "message").text() == "The next run will train on grey pictures."


def test_a_class_is_renamed_merged_and_left_out_in_the_window(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    frame = open_frame(station)
    click(qtbot, frame, "view sets")
    box = child(frame, QComboBox, "class to change")
    box.setCurrentIndex(box.findData("spiny"))
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("echinate", True))
    click(qtbot, frame, "rename class")
    assert "echinate" in frame.session.images.collection.classes
    assert box.currentData() == "echinate"
    monkeypatch.setattr(QInputDialog, "getItem", lambda *_, **__: ("winged", True))
    spiny = frame.session.images.collection.classes.index("echinate")
    click(qtbot, frame, "merge class")
    assert not any(row.label == spiny for row in frame.session.images.collection.rows)
    assert "without a unit: echinate" in child(frame, QLabel, "classes note").text()
    assert frame.session.design.examination.facts["output"].shape == (5,)
    box.setCurrentIndex(box.findData("smooth"))
    click(qtbot, frame, "leave class out")
    assert frame.session.design.plan.split.left_out == ("smooth",)
    assert (
        frame.session.images.collection.count("training", frame.session.images.collection.classes.index("smooth")) == 0
    )
    assert frame.session.design.examination.facts["output"].shape == (4,)
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("lobed", True))
    page = frame.page("images")
    page.browser.details.decisions.show_images((0, 1))
    page.browser.details.decisions._ask_new_class()
    assert frame.session.images.collection.classes[-1] == "lobed"
    for _ in range(4):
        child(frame, QPushButton, "undo").click()
    assert frame.session.images.collection.classes == station.catalogue.classes()
    assert "spiny" in station.catalogue.classes() and "lobed" not in station.catalogue.classes()
    assert frame.session.design.plan.split.left_out == ()
    assert dict(frame.session.images.curating.state) == {}


def test_a_table_is_taken_in_and_stands_with_the_images(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "images")
    file = tmp_path / "slides.csv"
    lines = [f"{row.number},{'AB'[row.number % 2]}" for row in station.catalogue.images()]
    file.write_text("image,device\n" + "\n".join(lines))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(file), ""))
    child(frame, QAction, "take in table").trigger()
    qtbot.waitUntil(lambda: "device" in frame.session.images.library.columns, timeout=30_000)
    assert "joined by its column image: device (2 words)" in frame.bottom.message.text()
    click(qtbot, frame, "view table")
    model = child(frame, ImageTable, "image table").model()
    assert model is not None
    heads = [model.headerData(k, Qt.Orientation.Horizontal) for k in range(model.columnCount())]
    assert heads[-1] == "device"
    first = model.index(0, len(heads) - 1)
    number = int(str(model.index(0, 0).data()).replace("\u202f", ""))
    assert first.data() == "AB"[number % 2]
    click(qtbot, frame, "view pictures")
    page = frame.page("images")
    assert isinstance(page, ImagesPage)
    page.browser.sheet.select(0)
    assert "device: B" in page.browser.details.facts.text()
    click(qtbot, frame, "view sets")
    assert "and columns are device" in said(frame, "split notes")
    child(frame, QComboBox, "split.keep_together").setCurrentText("column")
    enter(frame, "split.group_column", "device")
    assert f"{len(lines)} images of 2 groups by device stay together." in said(frame, "split notes")
    enter(frame, "split.group_column", "patient")
    assert "no table has a column «patient»; known are: device" in said(frame, "split warning")
    file.write_text("image,device\n1,A\n1,B\n")
    child(frame, QAction, "take in table").trigger()
    qtbot.waitUntil(lambda: "stands in lines 2 and 3" in frame.bottom.message.text(), timeout=30_000)
    assert len(frame.session.images.library.columns["device"]) == len(lines), "what was known stays"
