"""The Network stage: a base is chosen, asked whether it helps, and the plan is priced."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint
from PyQt6.QtWidgets import QCheckBox, QComboBox, QFileDialog, QLabel
from pytestqt.qtbot import QtBot
from tests.answering import answer
from tests.driving import LEFT, child, click, stage

from attentive_lens.desk.requests.explaining import Activations
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.window.bench.bench import Bench
from attentive_lens.window.frame import Frame
from attentive_lens.window.network.chooser import StarterCard
from attentive_lens.window.parts.basics import ink_on_paper, to_image
from attentive_lens.window.parts.picture import PictureBox
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]


def test_layers_of_an_earlier_run_are_frozen_from_the_network_page(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "network")
    click(qtbot, frame, "view base")
    runs = child(frame, QComboBox, "base run")
    runs.setCurrentIndex(1)
    runs.activated.emit(1)
    plan = frame.session.design.plan
    assert plan.base is not None
    assert (plan.base.run, plan.base.until) == (1, "max pooling 2")
    frozen = [p.name for p in child(frame, Bench, "bench").plates if p.frozen]
    assert frozen == ["convolution 1", "max pooling 1", "convolution 2", "max pooling 2"]
    until = child(frame, QComboBox, "base until")
    until.setCurrentIndex(until.findData("max pooling 1"))
    until.activated.emit(until.currentIndex())
    assert frame.session.design.plan.frozen == {"convolution 1", "relu 1", "max pooling 1"}
    advice = child(frame, QLabel, "base advice")
    qtbot.waitUntil(lambda: "A linear classifier on what «max pooling 1» of run 1" in advice.text(), timeout=60_000)
    statistics = child(frame, QComboBox, "base statistics")
    statistics.setCurrentIndex(statistics.findData("base"))
    statistics.activated.emit(statistics.currentIndex())
    qtbot.mouseClick(child(frame, QCheckBox, "base frozen"), LEFT, pos=QPoint(8, 8))
    changed = frame.session.design.plan.base
    assert changed is not None
    assert (changed.until, changed.statistics, changed.frozen) == ("max pooling 1", "base", False)
    assert frame.session.design.plan.frozen == frozenset()
    runs.setCurrentIndex(0)
    runs.activated.emit(0)
    assert frame.session.design.plan.base is None


def test_a_model_file_of_another_workspace_is_built_on(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    file = Path(shutil.copy(station.run(1).model, tmp_path / "meadow.alens"))
    frame = open_frame(station)
    stage(qtbot, frame, "network")
    click(qtbot, frame, "view base")
    runs = child(frame, QComboBox, "base run")
    design, problem = frame.session.design, child(frame, QLabel, "base problem")

    def choose(chosen: str) -> None:
        monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (chosen, ""))
        runs.setCurrentIndex(runs.count() - 1)
        runs.activated.emit(runs.count() - 1)

    choose("")
    assert design.plan.base is None
    choose(str(file))
    qtbot.waitUntil(lambda: design.plan.base is not None, timeout=60_000)
    assert design.plan.base is not None
    assert (design.plan.base.model, design.plan.name) == ("shelf:meadow", "two blocks on meadow")
    qtbot.waitUntil(lambda: runs.currentText() == "meadow · Shelf", timeout=60_000)
    file.write_bytes(b"no model")
    choose(str(file))
    qtbot.waitUntil(lambda: "meadow.alens" in problem.text(), timeout=60_000)
    assert problem.isVisible()
    assert design.plan.base.model == "shelf:meadow"


def test_a_plan_is_priced_when_it_has_settled_and_somebody_looks(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    price = child(frame, QLabel, "price")
    assert price.text() == ""
    stage(qtbot, frame, "network")
    qtbot.waitUntil(lambda: "s per epoch of 2 batches here" in price.text(), timeout=60_000)
    click(qtbot, frame, "choose starter")
    qtbot.mouseClick(child(frame, StarterCard, "starter residual"), LEFT)
    assert price.text() == "", "the other plan's price"
    qtbot.waitUntil(lambda: "per epoch" in price.text(), timeout=60_000)
    assert "for 20 epochs" in price.text()


def test_plates_show_what_the_run_in_view_made_of_the_sample_while_they_are_as_they_were_there(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "network")
    design, bench = frame.session.design, child(frame, Bench, "bench")
    assert set(bench.pictures) <= {"image"}, "the plan begun with has another network"
    design.change(station.run(1).plan())
    bench.choose(1)
    outputs = {plate.output for plate in bench.plates if len(plate.shape) == 3}
    qtbot.waitUntil(lambda: set(bench.pictures) >= outputs, timeout=60_000)
    first = bench.plates[1].output
    seen = answer(Activations(RunImage(str(station.folder), 1, 1), (first,))).outputs[first]
    most = int(np.abs(seen).mean(axis=(0, 1)).argmax())
    assert bench.pictures[first] == to_image(ink_on_paper(seen[:, :, most]))
    assert "the most active of its maps in run 1" in child(frame, QLabel, "sees").text()
    beside = child(frame, PictureBox, "map of the plate")
    assert beside.isVisible()
    assert beside.picture == bench.pictures[first]
    bench.choose(0)
    assert not beside.isVisible(), "the image is its own"
    bench.choose(1)
    wider = tuple(
        replace(node, layer=node.layer.with_(filters=5)) if node.name == "convolution 2" else node
        for node in design.nodes
    )
    design.edit(wider, "filters")
    assert set(bench.pictures) == {"image", "convolution 1", first, "max pooling 1"}
    design.change(design.plan.changed({"preprocessing.input_size": 48}))
    assert set(bench.pictures) == {"image"}, "another image is looked at"
    assert not beside.isVisible()


def test_a_base_whose_layers_were_changed_is_marked_on_its_plate_and_mended_there(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "network")
    click(qtbot, frame, "view base")
    runs = child(frame, QComboBox, "base run")
    runs.setCurrentIndex(1)
    runs.activated.emit(1)
    design, bench = frame.session.design, child(frame, Bench, "bench")
    wider = tuple(
        replace(node, layer=node.layer.with_(filters=5)) if node.name == "convolution 1" else node
        for node in design.nodes
    )
    design.edit(wider, "filters")
    assert [plate.name for plate in bench.plates if plate.faulty] == ["convolution 1", "convolution 2"]
    assert "2 faults: it cannot be trained yet" in child(frame, QLabel, "network about").text()
    bench.choose(1)
    assert "cannot be taken from run 1" in child(frame, QLabel, "layer fault").text()
    click(qtbot, frame, "repair Make convolution 1 as it is there")
    assert not [plate.name for plate in bench.plates if plate.faulty]
    assert design.sound
