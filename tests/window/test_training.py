"""The Training stage as it is used: steering a run, its curves, layers and answers, settings."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QInputDialog,
    QLabel,
    QPushButton,
    QSlider,
    QSpinBox,
    QTableWidget,
    QWidget,
)
from pytestqt.qtbot import QtBot
from tests.driving import LEFT, begin, child, click, enter, stage

from attentive_lens.core.jobs import finish
from attentive_lens.desk.tasks.pricing import choices_of_threads
from attentive_lens.desk.training.curves import curve, smoothed
from attentive_lens.desk.training.executing import execute
from attentive_lens.engine.network import fingerprint
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.measures import MEASURES
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.stopping import STOP_RULES, StopRule
from attentive_lens.window.bench.bench import Bench
from attentive_lens.window.frame import Frame
from attentive_lens.window.network.chooser import StarterCard
from attentive_lens.window.parts.chart import Chart
from attentive_lens.window.parts.matrix import ConfusionMatrix
from attentive_lens.window.training.health import SeriesTable, figure_words
from attentive_lens.window.training.last_batch import LastBatchView
from attentive_lens.window.training.schedule import ScheduleChart
from attentive_lens.window.words import thousands
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]


@pytest.fixture
def frame(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> Frame:
    window = open_frame(station)
    stage(qtbot, window, "training")
    return window


def test_a_run_is_paused_given_another_rate_continued_and_stopped_after_its_epoch(
    qtbot: QtBot, frame: Frame, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert not child(frame, QPushButton, "pause run").isVisible()
    begin(qtbot, frame)
    runs = frame.session.runs
    click(qtbot, frame, "pause run")
    qtbot.waitUntil(lambda: bool(runs.training and runs.training.paused), timeout=10_000)
    assert child(frame, QLabel, "training title").text() == "Run 2 is paused"
    assert child(frame, QPushButton, "pause run").text() == "Continue"
    assert frame.rail.buttons["training"].state == "paused"
    standing = runs.views[2].steps
    monkeypatch.setattr(QInputDialog, "getDouble", lambda *_: (0.5, False))
    click(qtbot, frame, "set learning rate")
    assert frame.session.workspace.run(2).commanded_rate() is None, "a dialog that is given up changes no rate"
    monkeypatch.setattr(QInputDialog, "getDouble", lambda *_: (0.0005, True))
    click(qtbot, frame, "set learning rate")
    qtbot.wait(300)
    assert runs.views[2].steps == standing, "a paused run takes no step"
    click(qtbot, frame, "pause run")
    qtbot.waitUntil(lambda: bool(runs.views[2].rates), timeout=10_000)
    assert [event.learning_rate for event in runs.views[2].rates] == [0.0005]
    assert frame.session.workspace.run(2).rates() == ((runs.views[2].rates[0].step, 0.0005),)
    click(qtbot, frame, "stop after epoch")
    qtbot.waitUntil(lambda: runs.training is None, timeout=30_000)
    view = runs.views[2]
    assert view.state == "stopped"
    assert view.steps[0] == len(view.epochs) * view.per_epoch, "its epoch was finished"
    assert not child(frame, QPushButton, "pause run").isVisible()


def test_design_train_pause_close_reopen_resume_compare(
    qtbot: QtBot, frame: Frame, open_frame: OpenFrame, station: Workspace
) -> None:
    stage(qtbot, frame, "network")
    click(qtbot, frame, "choose starter")
    qtbot.mouseClick(child(frame, StarterCard, "starter two blocks"), LEFT)
    stage(qtbot, frame, "training")
    for name, value in (("training.epochs", 3), ("training.batch_size", 8)):
        child(frame, QSpinBox, name).setValue(value)
    enter(frame, "preprocessing.input_size", "16")
    click(qtbot, frame, "main action")
    click(qtbot, frame, "pause run")
    qtbot.waitUntil(lambda: bool(frame.session.runs.training and frame.session.runs.training.paused), timeout=30_000)
    frame.close()

    frame = open_frame(Workspace.open(station.folder))
    stage(qtbot, frame, "training")
    runs = frame.session.runs
    assert child(frame, QLabel, "training title").text() == "Run 2 is paused", "it outlives the window"
    click(qtbot, frame, "answers view")
    qtbot.waitUntil(child(frame, LastBatchView, "last batch view").isVisible, timeout=10_000)
    assert "as the network sees them: epoch 1, step 1" in child(frame, QLabel, "last batch says").text()
    click(qtbot, frame, "main action")
    qtbot.waitUntil(lambda: runs.views[2].state == "stopped", timeout=30_000)
    click(qtbot, frame, "resume")
    qtbot.waitUntil(lambda: runs.views[2].state == "done", timeout=60_000)
    assert len(runs.views[2].epochs) == 3
    assert not child(frame, LastBatchView, "last batch view").isVisible(), "nothing passes any more"
    click(qtbot, frame, "all runs view")
    child(frame, QTableWidget, "runs table").selectAll()
    assert "points" in child(frame, QLabel, "runs advice").text()
    alone = finish(execute(station, station.claim_run(station.run(2).plan()), lambda: False))
    assert fingerprint(read_model(station.run(2).model).weights) == alone.weights_sha256


def test_a_batch_is_timed_for_each_number_of_threads(qtbot: QtBot, frame: Frame) -> None:
    click(qtbot, frame, "initialisation and machine settings")
    enter(frame, "preprocessing.input_size", "16")
    click(qtbot, frame, "time threads")
    says = child(frame, QLabel, "thread times")
    assert says.text() == "timing …"
    qtbot.waitUntil(lambda: "whole step" in says.text(), timeout=60_000)
    cores = len(os.sched_getaffinity(0))
    summary = [int(line.split()[0]) for line in says.text().splitlines()[1:] if "ms" in line]
    assert summary == list(choices_of_threads(cores))
    assert choices_of_threads(6) == (1, 2, 4, 6)
    assert choices_of_threads(1) == (1,)


def test_any_measure_is_drawn_of_all_images_or_of_a_class(qtbot: QtBot, frame: Frame) -> None:
    measure, chart = child(frame, QComboBox, "curve measure"), child(frame, Chart, "accuracy chart")
    classes = frame.session.images.collection.classes
    assert measure.count() == len(MEASURES) - 1 + 2 * len(classes)
    epochs = frame.session.runs.views[1].epochs
    measure.setCurrentIndex(measure.findText("macro F1"))
    drawn = {each.name: each.points for each in chart.curves}
    assert [y for _, y in drawn["validation"]] == [e.validation.macro_f1 for e in epochs if e.validation is not None]
    assert drawn["training"] == (), "of training images it is not known"
    measure.setCurrentIndex(measure.findText(f"loss of {classes[1]}"))
    assert chart.unit == ""
    losses = [epoch.by_class.losses[1] for epoch in epochs if epoch.by_class is not None]
    assert [y for _, y in {each.name: each.points for each in chart.curves}["validation"]] == losses
    measure.setCurrentIndex(measure.findText(f"accuracy of {classes[1]}"))
    assert chart.unit == "%"
    right = curve(epochs, "validation", "accuracy 1")
    assert all(0 <= y <= 1 for _, y in right)


def test_smoothing_draws_means_with_the_figures_behind_them(qtbot: QtBot, frame: Frame) -> None:
    points = tuple((float(k), float(v)) for k, v in enumerate((0, 4, 2, 8, 6)))
    assert smoothed(points, 3) == ((0, 0), (1, 2), (2, 14 / 3), (3, 16 / 3), (4, 6))
    assert smoothed(points, 1) == points
    chart = child(frame, Chart, "loss chart")
    lines = len(chart.curves)
    longer = frame.session.workspace.run(1).plan().changed({"training.epochs": 3})
    finish(execute(frame.session.workspace, frame.session.workspace.claim_run(longer), lambda: False))
    frame.session.tick()
    frame.session.runs.choose(2)
    child(frame, QSpinBox, "smoothing").setValue(3)
    assert len(chart.curves) == lines + 2
    assert [each.style for each in chart.curves if each.name == "" and each.role == "petrol"] == ["faint"]


def test_a_reference_curve_is_drawn_and_taken_off(
    qtbot: QtBot, frame: Frame, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "paper.csv"
    file.write_text("epoch,accuracy\n1,40\n2,60\n")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(file), ""))
    chart = child(frame, Chart, "accuracy chart")
    click(qtbot, frame, "how curves are drawn")
    click(qtbot, frame, "reference curve")
    assert {each.name: each.points for each in chart.curves}["paper"] == ((1, 0.4), (2, 0.6))
    click(qtbot, frame, "reference curve")
    assert "paper" not in {each.name for each in chart.curves}
    file.write_text("nothing")
    click(qtbot, frame, "reference curve")
    assert "paper.csv is no reference curve" in frame.bottom.message.text()


def test_curves_run_over_images_seen_beside_a_reference_that_counts_them(
    qtbot: QtBot, frame: Frame, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    workspace, chart = frame.session.workspace, child(frame, Chart, "accuracy chart")
    count = frame.session.runs.view.images_of_epoch  # type: ignore[union-attr]
    assert count == frame.session.images.collection.count("training")
    file = tmp_path / "elsewhere.csv"
    file.write_text(f"images,accuracy\n{count},40\n{2 * count},60\n")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(file), ""))
    click(qtbot, frame, "how curves are drawn")
    click(qtbot, frame, "reference curve")
    assert {each.name: each.points for each in chart.curves}["elsewhere"] == ((1, 0.4), (2, 0.6))
    axis = child(frame, QComboBox, "curve axis")
    assert axis.isEnabled()
    axis.setCurrentText("over images seen")
    assert {each.name: each.points for each in chart.curves}["elsewhere"] == ((1, 0.4), (2, 0.6))
    chart.show_cursor(2.0)
    assert f"epoch 2, {thousands(2 * count)} images" in child(chart, QLabel, "readout").text()
    assert chart._across.tickStrings([1.0, 2.0], 1.0, 1.0) == [thousands(count), thousands(2 * count)]
    fewer = workspace.run(1).plan().changed({"training.epochs": 1, "split.validation_fraction": 0.5})
    finish(execute(workspace, workspace.claim_run(fewer), lambda: False))
    frame.session.tick()
    frame.session.runs.choose(1)
    runs = frame.session.runs.views
    frame.page("training").curves.show_run(runs[1], (runs[2],), ())  # type: ignore[attr-defined]
    other = {each.name: each.points for each in chart.curves}["run 2"]
    share = runs[2].images_of_epoch / count
    assert share < 1
    assert other[0][0] == pytest.approx(share), "its first epoch showed fewer images"
    axis.setCurrentText("over epochs")
    assert {each.name: each.points for each in chart.curves}["run 2"][0][0] == 1
    assert chart._across.tickStrings([1.0, 2.0], 1.0, 1.0) == ["1", "2"]


def test_dragging_along_a_chart_shows_that_stretch_in_all_and_a_double_click_all(qtbot: QtBot, frame: Frame) -> None:
    loss, accuracy = child(frame, Chart, "loss chart"), child(frame, Chart, "accuracy chart")
    area = loss.area()
    ends = [QPoint(round(area.left() + area.width() * part), round(area.center().y())) for part in (0.25, 0.75)]
    qtbot.mousePress(loss, LEFT, pos=ends[0])
    qtbot.mouseMove(loss, ends[1])
    frame.grab()
    qtbot.mouseRelease(loss, LEFT, pos=ends[1])
    assert loss.seen == accuracy.seen == pytest.approx((0.5, 1.5), abs=0.05)
    frame.grab()
    qtbot.mouseDClick(accuracy, LEFT, pos=ends[0])
    assert loss.seen == accuracy.seen == (0.0, 2.0)
    qtbot.mouseClick(loss, LEFT, pos=ends[0])
    assert loss.seen == (0.0, 2.0), "a click is no stretch"


def test_layers_are_shown_with_their_series_and_those_that_are_unsound_tinted(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    wild = station.run(1).plan().changed({"optimiser.learning_rate": 0.3, "training.epochs": 4})
    finish(execute(station, station.claim_run(wild), lambda: False))
    frame = open_frame(station)
    frame.session.runs.choose(1)
    stage(qtbot, frame, "training")
    click(qtbot, frame, "layers view")
    bench, table = child(frame, Bench, "health bench"), child(frame, SeriesTable, "health table")
    says = child(frame, QLabel, "health says")
    assert [name for name, _ in table.rows] == ["convolution 1", "convolution 2", "fully connected 1", "output"]
    assert "gradient" in dict(table.rows)["convolution 1"]
    frame.session.runs.choose(2)
    assert bench.tints
    assert set(bench.tints.values()) <= {"ochre_fill", "vermilion"}
    assert says.text().startswith("Outside sound limits: ")
    frame.grab()
    qtbot.mouseClick(table, LEFT, pos=QPoint(20, 26 + 34 + 10))
    assert table.current == "convolution 2"
    assert bench.plates[bench.current or 0].name == "convolution 2"
    bench.choose(1)
    assert table.current == "convolution 1"
    assert figure_words("dead", 0.5) == "50\u202f%"
    assert figure_words("update", 0.0012) == "0.12\u202f%"


def test_answers_are_seen_epoch_by_epoch(qtbot: QtBot, frame: Frame) -> None:
    click(qtbot, frame, "answers view")
    matrix, slider = child(frame, ConfusionMatrix, "epoch matrix"), child(frame, QSlider, "epoch slider")
    assert slider.value() == slider.maximum() == 1
    epochs = frame.session.runs.views[1].epochs
    for place in (0, 1):
        slider.setValue(place)
        held = epochs[place].validation
        assert held is not None
        counts = np.array(matrix.counts)
        assert counts.trace() / counts.sum() == pytest.approx(held.accuracy)
        assert child(frame, QLabel, "answers say").text().startswith(f"Epoch {place + 1}: {held.accuracy * 100:.1f}")


def test_the_schedule_is_drawn_and_its_handles_change_the_plan(qtbot: QtBot, frame: Frame) -> None:
    design = frame.session.design
    design.change(design.plan.changed({"schedule": "one cycle", "training.epochs": 20}))
    click(qtbot, frame, "optimiser and schedule settings")
    chart = child(frame, ScheduleChart, "schedule chart")
    peak = max(rate for _, rate in chart.points)
    assert peak == pytest.approx(design.plan.optimiser.learning_rate, rel=1e-2)

    def drag(key: str, to: QPointF) -> None:
        handle = next(each for each in chart.handles if each.key == key)
        qtbot.mousePress(chart, LEFT, pos=chart.place(handle.epoch, handle.rate).toPoint())
        qtbot.mouseMove(chart, to.toPoint())
        frame.grab()
        qtbot.mouseRelease(chart, LEFT, pos=to.toPoint())

    drag("schedule.rise", chart.place(12, peak))
    assert design.plan.write()["schedule"]["rise"] == pytest.approx(0.6, abs=0.03)
    rate = design.plan.optimiser.learning_rate
    handle = next(each for each in chart.handles if each.key == "optimiser.learning_rate")
    drag("optimiser.learning_rate", chart.place(handle.epoch, handle.rate * 2))
    assert design.plan.optimiser.learning_rate == pytest.approx(2 * rate, rel=0.25)
    drag("schedule.final_factor", chart.place(20, peak / 20))
    assert 0.005 < design.plan.write()["schedule"]["final_factor"] < 0.2
    chart.setFocus()
    before = design.plan
    chart.current = next(k for k, each in enumerate(chart.handles) if each.key == "schedule.warmup_epochs")
    qtbot.keyClick(chart, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    assert design.plan.schedule.warmup_epochs == before.schedule.warmup_epochs + 0.5
    qtbot.keyClick(chart, Qt.Key.Key_Right)
    assert chart.handles[chart.current].key != "schedule.warmup_epochs"


def test_a_changed_batch_size_offers_to_scale_the_learning_rate(qtbot: QtBot, frame: Frame) -> None:
    design = frame.session.design
    design.change(design.plan.changed({"optimiser": "sgd", "training.batch_size": 16}))
    rate = design.plan.optimiser.learning_rate
    offer = child(frame, QPushButton, "scale rate")
    design.change(design.plan.changed({"training.batch_size": 32}))
    design.change(design.plan.changed({"training.batch_size": 64}))
    assert offer.isVisible()
    qtbot.mouseClick(offer, LEFT)
    assert design.plan.optimiser.learning_rate == pytest.approx(4 * rate)
    assert not offer.isVisible()


def test_folded_settings_say_what_is_unusual_in_them(qtbot: QtBot, frame: Frame) -> None:
    design = frame.session.design
    design.change(design.plan.changed({"stopping.patience": 8, "averaging": "exponential moving average"}))
    says = child(frame, QLabel, "length and stopping settings says")
    assert says.text() == "early stopping (patience) 8"
    assert child(frame, QLabel, "loss and regularisation settings says").text() == "exponential moving average"
    click(qtbot, frame, "length and stopping settings")
    assert "fast" not in says.text()
    assert child(frame, QSpinBox, "stopping.patience").value() == 8


def test_a_rule_that_a_package_brings_stands_in_the_form_and_none_where_none_does(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    plain = open_frame(station)
    stage(qtbot, plain, "training")
    assert plain.findChild(QWidget, "stopping.rule") is None
    rule = StopRule("level_loss", "level loss", "Ends the run once the loss is level.")
    monkeypatch.setitem(STOP_RULES, rule.name, rule)
    frame = open_frame(station)
    stage(qtbot, frame, "training")
    box = child(frame, QComboBox, "stopping.rule")
    assert [box.itemText(k) for k in range(box.count())] == ["none", "level_loss"]
    box.setCurrentIndex(1)
    box.activated.emit(1)
    assert frame.session.design.plan.stopping.rule == "level_loss"
    frame.session.design.change(Plan())
