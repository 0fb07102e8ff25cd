"""What is done with runs of the table: named, noted, pinned, deleted, repeated, swept, queued."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QLabel,
    QLineEdit,
    QMessageBox,
    QPushButton,
    QTableWidget,
)
from pytestqt.qtbot import QtBot
from tests.driving import LEFT, begin, child, click, stage

from attentive_lens.core.jobs import finish
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import reap_children
from attentive_lens.window.frame import Frame
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.about import About

OpenFrame = Callable[[Workspace], Frame]


@pytest.fixture
def frame(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> Frame:
    window = open_frame(station)
    stage(qtbot, window, "training")
    return window


def test_runs_are_named_noted_pinned_deleted_and_brought_back(
    qtbot: QtBot, frame: Frame, monkeypatch: pytest.MonkeyPatch
) -> None:
    station = frame.session.workspace
    second = station.run(1).plan().changed({"seed": 9, "training.epochs": 1})
    finish(execute(station, station.claim_run(second), lambda: False))
    frame.session.tick()
    click(qtbot, frame, "all runs view")
    table = child(frame, QTableWidget, "runs table")
    name, note = child(frame, QLineEdit, "run name"), child(frame, QLineEdit, "run note")
    assert not name.isVisible(), "no run is selected"
    table.selectRow(1)
    for field, words in ((name, "shorter"), (note, "to see")):
        field.setFocus()
        field.setText(words)
        qtbot.keyClick(field, Qt.Key.Key_Return)
    click(qtbot, frame, "pin run")
    assert station.run(2).about() == About("shorter", "to see", True)
    assert [table.item(row, 0).text() for row in (0, 1)] == ["2 ●", "1"], "pinned ones stand first"
    assert table.item(0, 1).text() == "shorter"
    click(qtbot, frame, "delete run")
    assert (table.rowCount(), [run.number for run in station.runs()]) == (1, [1])
    bin_ = child(frame, QPushButton, "bin")
    assert bin_.text() == "Bin · 1"
    restore, _, empty = bin_.menu().actions()
    assert restore.text() == "Bring run 2 back"
    restore.trigger()
    assert [run.number for run in station.runs()] == [1, 2]
    assert table.rowCount() == 2
    assert not bin_.isVisible()
    undo = child(frame, QPushButton, "undo")
    for words, left in (("bringing run 2 back", [1]), ("deleting run 2", [1, 2]), ("the pin of run 2", [1, 2])):
        assert undo.text() == f"undo {words}"
        qtbot.mouseClick(undo, LEFT)
        assert [run.number for run in station.runs()] == left
    assert station.run(2).about() == About("shorter", "to see")
    table.selectRow(1)
    click(qtbot, frame, "delete run")
    for answer, stored in ((QMessageBox.StandardButton.No, (2,)), (QMessageBox.StandardButton.Yes, ())):
        monkeypatch.setattr(QMessageBox, "question", lambda *_, answer=answer: answer)
        empty = bin_.menu().actions()[-1]
        empty.trigger()
        assert station.deleted_runs() == stored


def test_a_sweep_and_a_repeat_are_queued_and_what_is_wrong_is_said_in_place(
    qtbot: QtBot, frame: Frame, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("attentive_lens.desk.training.queue.start_claimed", lambda workspace, run: None)
    monkeypatch.setattr("attentive_lens.workspace.Run.begin", lambda self: None)
    station = frame.session.workspace
    click(qtbot, frame, "all runs view")
    values, says = child(frame, QLineEdit, "sweep values"), child(frame, QLabel, "sweep says")
    values.setText("0.001, fast")
    click(qtbot, frame, "queue sweep")
    assert "optimiser.adam.learning_rate: a number is needed, got 'fast'" in says.text()
    assert len(station.runs()) == 1, "nothing was queued"
    values.setText("0.0005, 0.002")
    click(qtbot, frame, "queue sweep")
    assert "fast" not in says.text()
    table = child(frame, QTableWidget, "runs table")
    assert [table.item(row, 2).text() for row in range(3)] == ["done", "waiting", "waiting"]
    assert [station.run(number).plan().optimiser.learning_rate for number in (2, 3)] == [0.0005, 0.002]
    table.selectRow(0)
    click(qtbot, frame, "repeat run")
    assert station.run(4).plan() == replace(station.run(1).plan(), seed=station.run(1).plan().seed + 1)
    table.selectRow(1)
    remove = child(frame, QPushButton, "delete run")
    assert remove.text() == "Take from queue"
    qtbot.mouseClick(remove, LEFT)
    assert [run.number for run in station.runs()] == [1, 3, 4]


def test_a_run_is_queued_behind_the_one_that_trains_and_begins_by_itself(qtbot: QtBot, frame: Frame) -> None:
    assert not child(frame, QPushButton, "queue run").isVisible()
    begin(qtbot, frame)
    frame.session.design.change(frame.session.design.plan.changed({"training.epochs": 1, "seed": 12}))
    click(qtbot, frame, "queue run")
    assert frame.session.runs.views[3].state == "waiting"
    frame.session.runs.choose(3)
    assert child(frame, QLabel, "training title").text() == "Run 3 waits in the queue"
    frame.session.runs.steer("stop")
    qtbot.waitUntil(lambda: frame.session.runs.views[3].state == "done", timeout=60_000)
    qtbot.waitUntil(lambda: not reap_children(), timeout=20_000)
