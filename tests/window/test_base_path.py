"""A base's way through the window, by its events: taken, frozen, trained, let learn on, put on the Shelf, exported."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import onnx
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QCheckBox, QComboBox, QFileDialog, QLabel, QLineEdit, QPushButton, QSpinBox
from pytestqt.qtbot import QtBot
from tests.driving import child, click, stage

from attentive_lens.formats.reading import read_model
from attentive_lens.plan.base import SHELF
from attentive_lens.window.bench.bench import Bench
from attentive_lens.window.frame import Frame
from attentive_lens.window.network.base_panel import COMPARING
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]
LEFT = Qt.MouseButton.LeftButton


def pick(qtbot: QtBot, frame: Frame, name: str, value: str) -> None:
    """Choose an entry of a drop-down as the keys do."""
    box = child(frame, QComboBox, name)
    place = box.findData(value)
    assert place >= 0, [box.itemData(k) for k in range(box.count())]
    box.setFocus()
    qtbot.keyClick(box, Qt.Key.Key_Home)
    for _ in range(place):
        qtbot.keyClick(box, Qt.Key.Key_Down)


def drag_frost(qtbot: QtBot, bench: Bench, frm: int, to: int) -> None:
    begin, end = QPoint(int(bench.step() * frm), 20), QPoint(int(bench.step() * to), 20)
    qtbot.mousePress(bench, LEFT, pos=begin)
    qtbot.mouseMove(bench, end)
    qtbot.mouseRelease(bench, LEFT, pos=end)


def trained(qtbot: QtBot, frame: Frame, number: int) -> dict[str, dict[str, np.ndarray]]:
    """Train the plan on the bench with the main action, and read the weights it came to."""
    stage(qtbot, frame, "training")
    child(frame, QSpinBox, "training.epochs").setValue(2)
    click(qtbot, frame, "main action")
    qtbot.waitUntil(lambda: number in frame.session.runs.views, timeout=60_000)
    qtbot.waitUntil(lambda: frame.session.runs.training is None, timeout=60_000)
    view = frame.session.runs.views[number]
    assert view.state == "done", view.error
    return dict(read_model(frame.session.workspace.run(number).model).weights)


def test_a_base_is_taken_frozen_trained_tuned_shelved_and_exported(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    frame = open_frame(station)
    base = dict(read_model(station.run(1).model).weights)
    stage(qtbot, frame, "network")
    frame.page("network").show_base()
    pick(qtbot, frame, "base run", "1")
    taken = frame.session.design.plan.base
    assert taken is not None
    assert (taken.until, taken.frozen) == ("max pooling 2", True)

    bench = child(frame, Bench, "bench")
    names = [plate.name for plate in bench.plates]
    frost = max(k for k, plate in enumerate(bench.plates) if plate.frozen)
    drag_frost(qtbot, bench, frost + 1, names.index("max pooling 1") + 1)
    taken = frame.session.design.plan.base
    assert taken is not None
    assert taken.until == "max pooling 1"

    first = trained(qtbot, frame, 2)
    assert all(np.array_equal(first["convolution 1"][key], base["convolution 1"][key]) for key in base["convolution 1"])
    assert not np.array_equal(first["convolution 2"]["kernel"], base["convolution 2"]["kernel"])

    stage(qtbot, frame, "network")
    pick(qtbot, frame, "base run", "2")
    child(frame, QCheckBox, "base frozen").click()
    child(frame, QSpinBox, "base.head_warmup_epochs").setValue(1)
    rate = child(frame, QLineEdit, "base.lr_decay")
    rate.setFocus()
    rate.selectAll()
    qtbot.keyClicks(rate, "0.5")
    qtbot.keyClick(rate, Qt.Key.Key_Return)
    second = trained(qtbot, frame, 3)
    moved = {name: [not np.array_equal(second[name][key], first[name][key]) for key in first[name]] for name in base}
    assert all(all(each) for each in moved.values()), "nothing is frozen any more"
    started = frame.session.workspace.run(3).plan().base
    assert started is not None
    assert (started.run, started.finely) == (2, (1, 0, 0.5, "learned"))

    frame.show_stage("shelf")
    click(qtbot, frame, "put run")
    qtbot.waitUntil(lambda: any(not each.ships for each in frame.session.shelf.models or ()), timeout=60_000)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "grains.onnx"), ""))
    click(qtbot, frame, "export from shelf")
    says = child(frame, QLabel, "shelf result")
    qtbot.waitUntil(lambda: "gives all of 16 images the class" in says.text(), timeout=120_000)
    inside = onnx.load(tmp_path / "grains.onnx")
    classes = {each.key: each.value for each in inside.metadata_props}
    assert all(name in str(classes) for name in frame.session.images.collection.classes)


def test_ways_to_begin_are_compared_stopped_and_remembered(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "network")
    frame.page("network").show_base()
    compare, verdict = child(frame, QPushButton, "compare ways"), child(frame, QLabel, "base verdict")
    assert not compare.isEnabled(), "there is no base yet"
    qtbot.waitUntil(lambda: frame.session.shelf.models is not None, timeout=60_000)
    pick(qtbot, frame, "base run", f"{SHELF}motifs")
    frame.session.design.change(frame.session.design.plan.changed({"training.epochs": 400}))
    click(qtbot, frame, "compare ways")
    assert (compare.text(), verdict.text()) == ("Stop", "Training all three ways, each shortly …")
    click(qtbot, frame, "compare ways")
    assert (compare.text(), verdict.text()) == ("Does it help?", "")
    assert not frame.session.asker.waits_for(COMPARING)

    click(qtbot, frame, "compare ways")
    assert frame.session.asker.waits_for(COMPARING)
    frame.session.design.change(frame.session.design.plan.changed({"training.epochs": 1}))
    assert not frame.session.asker.waits_for(COMPARING), "what is asked of another plan is given up"
    assert (compare.text(), verdict.text()) == ("Does it help?", "")
    click(qtbot, frame, "compare ways")
    qtbot.waitUntil(lambda: "images held out, new weights on" in verdict.text(), timeout=180_000)
    words = verdict.text()
    assert compare.text() == "Does it help?"
    frame.session.design.change(frame.session.design.plan.changed({"training.epochs": 3}))
    assert verdict.text() == "", "of another plan nothing is known"
    frame.session.design.change(frame.session.design.plan.changed({"training.epochs": 1}))
    assert verdict.text() == words
    again = open_frame(station)
    stage(qtbot, again, "network")
    again.page("network").show_base()
    qtbot.waitUntil(lambda: child(again, QLabel, "base verdict").text() == words, timeout=60_000)
