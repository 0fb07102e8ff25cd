"""Models go out from the overview and come in by being dropped; what is said of them stands where they are."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import onnx
import pytest
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtWidgets import QComboBox, QFileDialog, QLabel
from pytestqt.qtbot import QtBot
from tests.driving import child, click

from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.exporting import KINDS, ExportModel
from attentive_lens.desk.tasks import carry_out
from attentive_lens.formats.reading import read_model
from attentive_lens.window.frame import Frame
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]


def test_a_model_is_exported_from_the_overview(
    qtbot: QtBot, seen: Frame, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    offered: list[str] = []
    names = iter([str(tmp_path / "grains.onnx"), str(tmp_path / "grains.doc"), ""])

    def ask(*words: object) -> tuple[str, str]:
        offered.append(str(words[3]))
        return next(names), ""

    monkeypatch.setattr(QFileDialog, "getSaveFileName", ask)
    says = child(seen, QLabel, "overview found")
    click(qtbot, seen, "export model")
    qtbot.waitUntil(lambda: "images the class that the model gives" in says.text(), timeout=120_000)
    assert onnx.load(tmp_path / "grains.onnx").graph.output[0].name == "probabilities"
    assert all(f"*{ending}" in offered[0] for ending in KINDS)
    click(qtbot, seen, "export model")
    qtbot.waitUntil(lambda: "its ending is none of" in says.text(), timeout=30_000)
    click(qtbot, seen, "export model")
    assert "ending" in says.text(), "nothing was chosen"
    assert [each.name for each in tmp_path.iterdir()] == ["grains.onnx"]


def drop(frame: Frame, place: Path) -> None:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(place))])
    buttons, held = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    frame.dropEvent(QDropEvent(QPointF(5, 5), Qt.DropAction.CopyAction, data, buttons, held))


def test_a_model_that_is_dropped_is_built_on(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, tmp_path: Path
) -> None:
    finish(carry_out(ExportModel(str(station.folder), "1", str(tmp_path / "grains.onnx"), sample=0)))
    frame = open_frame(station)
    drop(frame, tmp_path / "grains.onnx")
    assert frame.current == "network"
    qtbot.waitUntil(lambda: frame.session.design.plan.base is not None, timeout=60_000)
    base = frame.session.design.plan.base
    assert base is not None
    assert base.model == "shelf:grains"
    qtbot.waitUntil(lambda: child(frame, QComboBox, "base run").currentText() == "grains · Shelf", timeout=30_000)
    assert "6 classes" in frame.bottom.message.text()
    theirs = read_model(station.run(1).model).weights["convolution 1"]["kernel"]
    ours = read_model(station.folder / "shelf" / "grains.alens").weights["convolution 1"]["kernel"]
    assert (ours == theirs).all()
    problem = child(frame, QLabel, "base problem")
    (tmp_path / "bad.onnx").write_text("no model")
    drop(frame, tmp_path / "bad.onnx")
    qtbot.waitUntil(lambda: "was not read" in problem.text(), timeout=30_000)
    assert problem.isVisible()
    assert frame.session.design.plan.base == base, "nothing is changed"
