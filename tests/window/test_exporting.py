"""The model is exported from the overview, and what it says of the file stands there."""

from __future__ import annotations

from pathlib import Path

import onnx
import pytest
from PyQt6.QtWidgets import QFileDialog, QLabel
from pytestqt.qtbot import QtBot
from tests.driving import child, click

from attentive_lens.desk.requests.exporting import KINDS
from attentive_lens.window.frame import Frame


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
