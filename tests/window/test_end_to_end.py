"""The real window, driven by object name as a person would drive it."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QCheckBox, QComboBox, QLabel, QLineEdit, QPushButton, QSpinBox, QWidget
from pytestqt.qtbot import QtBot
from tests.driving import child, click, enter, stage

from attentive_lens.core.jobs import finish
from attentive_lens.desk import remembering
from attentive_lens.desk.making import make_demo, make_workspace
from attentive_lens.desk.training.executing import execute
from attentive_lens.explaining.saliency import METHODS
from attentive_lens.window.application import open_folder
from attentive_lens.window.bench.bench import Bench
from attentive_lens.window.explaining.channel_rows import ChannelRows
from attentive_lens.window.explaining.trust import TrustChips
from attentive_lens.window.frame import Frame
from attentive_lens.window.network.chooser import StarterCard
from attentive_lens.window.parts.augmentation_editor import VariantGrid
from attentive_lens.window.parts.bars import Bars
from attentive_lens.window.parts.basics import OneLine
from attentive_lens.window.parts.form import Form
from attentive_lens.window.parts.lens import Lens
from attentive_lens.window.parts.matrix import ConfusionMatrix
from attentive_lens.window.parts.range import RangeSlider
from attentive_lens.window.parts.sheet import ContactSheet
from attentive_lens.window.welcome import Welcome
from attentive_lens.workspace import Workspace

LEFT = Qt.MouseButton.LeftButton
OpenFrame = Callable[[Workspace], Frame]


def test_from_a_fresh_demo_to_the_maps_of_a_mistake(qtbot: QtBot, open_frame: OpenFrame, tmp_path: Path) -> None:
    frame = open_frame(finish(make_demo(tmp_path / "demo", 60, 1)).workspace)
    assert frame.current == "images"
    assert frame.rail.buttons["images"].state == "60 · 6"
    assert "tape99-empty.png" in child(frame, QLabel, "skipped files").text()

    click(qtbot, frame, "main action")
    assert frame.current == "network"
    click(qtbot, frame, "choose starter")
    qtbot.mouseClick(child(frame, StarterCard, "starter two blocks"), LEFT)
    assert child(frame, Bench, "bench").plates[1].shape == (64, 64, 8)

    stage(qtbot, frame, "training")
    child(frame, QSpinBox, "training.epochs").setValue(2)
    enter(frame, "preprocessing.input_size", "32")
    assert frame.session.design.plan.training.epochs == 2
    click(qtbot, frame, "main action")
    assert child(frame, QPushButton, "main action").text() == "Stop"
    qtbot.waitUntil(lambda: frame.session.runs.training is None, timeout=60_000)
    view = frame.session.runs.view
    assert view is not None
    assert (view.state, len(view.epochs)) == ("done", 2), view.error
    assert child(frame, QLabel, "figure epoch").text() == "2 of 2"

    stage(qtbot, frame, "results")
    qtbot.waitUntil(lambda: frame.session.scores.current is not None, timeout=30_000)
    click(qtbot, frame, "matrix of scores")
    matrix = child(frame, ConfusionMatrix, "confusion matrix")
    true, predicted = next((t, s) for t in range(6) for s in range(6) if t != s and matrix.counts[t][s])
    qtbot.mouseClick(matrix.viewport(), LEFT, pos=matrix.box(true, predicted).center().toPoint())
    sheet = child(frame, ContactSheet, "cell images")
    assert sum(len(g.places) for g in sheet.groups) == matrix.counts[true][predicted]

    qtbot.mouseClick(sheet.viewport(), LEFT, pos=QPoint(20, 60))
    assert sheet.current is not None
    click(qtbot, frame, "main action")
    assert frame.current == "explain"
    qtbot.waitUntil(lambda: child(frame, Lens, "lens true").map is not None, timeout=30_000)
    classes = frame.session.images.collection.classes
    assert child(frame, QLabel, "predicted name").text() == classes[predicted]
    assert child(frame, QLabel, "true name").text() == classes[true]
    assert child(frame, Lens, "lens predicted").map != child(frame, Lens, "lens true").map
    assert len(child(frame, Bars, "answers").bars) == 6
    click(qtbot, frame, "evidence layers")
    bench = child(frame, Bench, "explain bench")
    layers = {"image", "relu 1", "max pooling 1", "relu 2"}
    qtbot.waitUntil(lambda: set(bench.pictures) >= layers, timeout=30_000)
    assert "max pooling 2" in {p.name for p in bench.plates}
    click(qtbot, frame, "view filters")
    rows = child(frame, ChannelRows, "channel rows")
    qtbot.waitUntil(lambda: len(rows.order) == 8, timeout=30_000)


def test_the_window_opens_on_a_trained_run_and_its_lens_follows_the_keys(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    assert frame.current == "results"
    qtbot.waitUntil(lambda: bool(frame.session.scores.mistakes()), timeout=30_000)
    stage(qtbot, frame, "explain")
    lens, other = child(frame, Lens, "lens predicted"), child(frame, Lens, "lens true")
    qtbot.waitUntil(lambda: lens.map is not None, timeout=30_000)
    before = lens.across
    qtbot.keyClick(lens, Qt.Key.Key_Left if before > 0.5 else Qt.Key.Key_Right)
    assert lens.across != before
    assert (lens.across, lens.below, lens.radius) == (other.across, other.below, other.radius)
    qtbot.keyClick(lens, Qt.Key.Key_Space)
    assert lens.whole
    assert other.whole
    plain = other.map
    right = child(frame, QComboBox, "right map")
    right.setCurrentText("said − true")
    right.activated.emit(right.currentIndex())
    assert other.map != plain
    first = frame.session.scores.mistakes()[0]
    place = child(frame, OneLine, "mistake place")
    assert f" · image {first} · " in place.text()
    click(qtbot, frame, "next mistake")
    second = frame.session.scores.mistakes()[1]
    qtbot.waitUntil(lambda: f" · image {second} · " in place.text(), timeout=30_000)
    box = child(frame, QComboBox, "method")
    assert [box.itemData(k) for k in range(box.count())] == list(METHODS)
    box.setCurrentIndex(box.findData("occlusion"))
    box.activated.emit(box.currentIndex())
    shows = child(frame, QLabel, "method shows")
    qtbot.waitUntil(lambda: "square covers" in shows.text(), timeout=30_000)
    click(qtbot, frame, "measure trust")
    chips = child(frame, TrustChips, "trust predicted")
    qtbot.waitUntil(lambda: "randomised" in {figure.name for figure in chips.figures}, timeout=60_000)
    assert "must be below" in shows.text()
    gain = child(frame, QPushButton, "gain predicted")
    qtbot.mouseClick(gain, LEFT)
    assert "random maps" in shows.text()
    assert "next class" in shows.text()
    qtbot.mouseClick(gain, LEFT)
    assert "square covers" in shows.text()
    click(qtbot, frame, "evidence causes")
    click(qtbot, frame, "view of mistakes")
    qtbot.waitUntil(lambda: bool(frame.findChildren(QPushButton, "cause 0")), timeout=60_000)
    click(qtbot, frame, "cause 0")
    assert len(child(frame, QLabel, "causes note").text()) > 40
    qtbot.waitUntil(lambda: place.text().startswith("chosen 1 of "), timeout=30_000)
    click(qtbot, frame, "cause 0")
    assert place.text().startswith("mistake ")


def problems(page: QWidget) -> str:
    return " ".join(form.problem.text() for form in page.findChildren(Form) if form.problem.isVisible())


def test_wrong_settings_are_explained_where_they_stand_and_change_nothing(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "training")
    page = frame.pages["training"]
    rate = child(frame, QLineEdit, "optimiser.learning_rate")
    for words, part in (("fast", "not a number"), ("-3", "below the least")):
        rate.setText(words)
        rate.editingFinished.emit()
        assert part in problems(page)
        assert rate.text() == "0.001"
    click(qtbot, frame, "split and preprocessing settings")
    enter(frame, "preprocessing.input_size", "5")
    assert "does not fit" in problems(page)
    assert frame.session.design.plan.preprocessing.input_size == 64


def test_stop_from_the_bottom_strip_keeps_the_run(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> None:
    frame = open_frame(station)
    frame.session.design.change(
        frame.session.design.plan.changed(
            {"network": "two blocks", "preprocessing.input_size": 32, "training.epochs": 9999}
        )
    )
    stage(qtbot, frame, "training")
    click(qtbot, frame, "main action")
    qtbot.waitUntil(lambda: bool(frame.session.runs.view and frame.session.runs.view.epochs), timeout=60_000)
    click(qtbot, frame, "stop training")
    qtbot.waitUntil(lambda: frame.session.runs.training is None, timeout=30_000)
    view = frame.session.runs.view
    assert view is not None
    assert (view.number, view.state) == (2, "stopped")
    assert frame.session.workspace.run(2).model.exists()
    done = len(view.epochs)
    click(qtbot, frame, "resume")
    qtbot.waitUntil(lambda: frame.session.runs.training is not None, timeout=30_000)
    assert not child(frame, QPushButton, "resume").isVisible()
    qtbot.waitUntil(lambda: len(frame.session.runs.views[2].epochs) > done, timeout=60_000)
    frame.session.runs.steer("stop")
    qtbot.waitUntil(lambda: frame.session.runs.training is None, timeout=30_000)
    click(qtbot, frame, "loss and regularisation settings")
    box = child(frame, QComboBox, "loss.kind")
    assert box.isVisible()
    box.setCurrentText("squared error")
    assert frame.session.design.plan.loss.kind == "squared error"


def test_the_window_comes_back_as_it_was_left(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> None:
    finish(execute(station, station.claim_run(station.run(1).plan()), lambda: False))
    frame = open_frame(station)
    assert (frame.current, frame.session.runs.current) == ("results", 2)
    frame.session.runs.choose(1)
    stage(qtbot, frame, "network")
    frame.close()
    again = open_frame(station)
    assert (again.current, again.session.runs.current) == ("network", 1)
    recalled = remembering.recall(station.folder)
    assert recalled["size"] == [frame.width(), frame.height()]
    for k in range(60):
        remembering.remember(Path(f"other {k}"), {"stage": "images"})
    assert remembering.recall(station.folder) == {}
    assert remembering.recall(Path("other 59")) == {"stage": "images"}


def test_classes_and_sets_filter_the_contact_sheet(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "images")
    sheet = child(frame, ContactSheet, "contact sheet")
    assert sum(len(g.places) for g in sheet.groups) == 90
    click(qtbot, frame, "set training")
    assert {g.note.split(" ")[0] for g in sheet.groups} == {"validation", "test"}
    bars = child(frame, Bars, "class bars")
    qtbot.mouseClick(bars, LEFT, pos=QPoint(10, 30))
    assert {g.title for g in sheet.groups} == {frame.session.images.collection.classes[1]}
    sheet.setFocus()
    qtbot.keyClick(sheet, Qt.Key.Key_Right)
    assert sheet.current is not None
    assert f"image {sheet.current + 1}" in child(frame, QLabel, "image facts").text()


def test_faults_are_listed_and_lead_to_their_images(qtbot: QtBot, open_frame: OpenFrame, tmp_path: Path) -> None:
    made = finish(make_demo(tmp_path / "demo", 240, 1))
    first = next(made.workspace.path_of(row) for row in made.collection.rows if row.given_set == "training")
    shutil.copy(first, tmp_path / "demo" / "images" / "test" / "smooth" / "copied.png")
    shutil.rmtree(tmp_path / "work", ignore_errors=True)
    workspace = finish(make_workspace(tmp_path / "work", tmp_path / "demo" / "images")).workspace
    frame = open_frame(workspace)
    click(qtbot, frame, "look for faults")
    qtbot.waitUntil(lambda: frame.findChild(QPushButton, "finding 0") is not None, timeout=60_000)
    assert child(frame, QPushButton, "finding 0").text().startswith("leak")
    click(qtbot, frame, "finding 0")
    sheet = child(frame, ContactSheet, "contact sheet")
    assert {len(g.places) for g in sheet.groups} == {2}
    pictures = len(sheet.groups)
    assert "in more than one set" in child(frame, QLabel, "finding why").text()
    click(qtbot, frame, "remedy 0")
    assert frame.session.images.collection.count("excluded") == pictures
    assert all(frame.session.images.collection.sets[k] != "excluded" for g in sheet.groups for k in g.places[:1])
    click(qtbot, frame, "undo")
    assert frame.session.images.collection.count("excluded") == 0
    click(qtbot, frame, "finding 0")
    assert sum(len(g.places) for g in sheet.groups) == 241


def test_augmentation_is_designed_by_eye(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "training")
    click(qtbot, frame, "edit augmentation")
    assert frame.current == "images"
    grid = child(frame, VariantGrid, "variant grid")
    qtbot.waitUntil(lambda: grid.variants is not None, timeout=30_000)
    assert grid.originals is not None
    assert grid.variants is not None
    assert len(grid.variants) == 5 * len(grid.originals) == 40
    first = grid.variants
    qtbot.mouseClick(child(frame, QCheckBox, "augmentation grey"), LEFT, pos=QPoint(7, 7))
    assert "grey" in {step.kind for step in frame.session.design.plan.augmentation}
    assert "colour" in child(frame, QLabel, "augmentation caution").text()
    often = child(frame, RangeSlider, "augmentation.grey.probability")
    often.setFocus()
    for _ in range(25):
        qtbot.keyClick(often, Qt.Key.Key_Right)

    def all_grey() -> bool:
        return grid.variants is not first and bool((np.ptp(grid.variants, axis=3) == 0).all())

    qtbot.waitUntil(all_grey, timeout=30_000)
    assert {step.kind: step.probability for step in frame.session.design.plan.augmentation}["grey"] == 1.0
    kinds = [step.kind for step in frame.session.design.plan.augmentation]
    assert kinds == ["flip", "rotate", "translate", "brightness", "grey"]
    click(qtbot, frame, "step earlier")
    assert [step.kind for step in frame.session.design.plan.augmentation][3:] == ["grey", "brightness"]
    assert child(frame, QLabel, "augmentation turn grey").text() == "4"
    mixing = child(frame, QCheckBox, "augmentation patch blend")
    qtbot.mouseClick(mixing, LEFT, pos=QPoint(7, 7))
    assert frame.session.design.plan.augmentation[-1].kind == "patch blend"
    assert not child(frame, QPushButton, "step earlier").isEnabled()
    qtbot.mouseClick(mixing, LEFT, pos=QPoint(7, 7))
    click(qtbot, frame, "augmentation step rotate")
    between = child(frame, RangeSlider, "augmentation.rotate.range")
    between.setFocus()
    qtbot.keyClick(between, Qt.Key.Key_Left)
    rotate = next(step for step in frame.session.design.plan.augmentation if step.kind == "rotate")
    assert rotate.range[0] < -30  # type: ignore[attr-defined]
    click(qtbot, frame, "augmentation step flip")
    box = child(frame, QComboBox, "augmentation.flip.direction")
    box.setCurrentText("left-right")
    box.textActivated.emit("left-right")
    assert frame.session.design.plan.augmentation[0].direction == "left-right"  # type: ignore[attr-defined]
    click(qtbot, frame, "view pictures")
    assert child(frame, ContactSheet, "contact sheet").isVisible()


def test_the_empty_stages_lead_on(qtbot: QtBot, open_frame: OpenFrame, tmp_path: Path) -> None:
    frame = open_frame(finish(make_demo(tmp_path / "demo", 24, 1)).workspace)
    stage(qtbot, frame, "explain")
    qtbot.mouseClick(child(frame, QPushButton, "go to results"), LEFT)
    assert frame.current == "results"
    qtbot.mouseClick(child(frame, QPushButton, "go to training"), LEFT)
    assert frame.current == "training"
    frame.session.explain_asked.emit(1)
    assert "no trained model" in child(frame, QLabel, "message").text()


def test_a_set_without_images_is_said_where_its_scores_would_stand(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    plan = station.run(1).plan().changed({"split.validation_fraction": 0.0, "training.epochs": 1})
    finish(execute(station, station.claim_run(plan), lambda: False))
    frame = open_frame(station)
    click(qtbot, frame, "score validation")
    problem = child(frame, QLabel, "results problem")
    qtbot.waitUntil(lambda: "no validation set" in problem.text(), timeout=30_000)
    click(qtbot, frame, "score test")
    qtbot.waitUntil(lambda: not problem.isVisible(), timeout=30_000)


def test_without_a_workspace_there_are_doors(qtbot: QtBot, station: Workspace, tmp_path: Path) -> None:
    welcome = Welcome(open_folder)
    qtbot.addWidget(welcome)
    welcome.show()
    welcome.open_folder(tmp_path)
    assert "not a workspace" in child(welcome, QLabel, "welcome message").text()
    welcome.open_folder(station.folder)
    assert isinstance(welcome.frame, Frame)
    welcome.frame.close()


def test_a_demo_that_cannot_be_made_says_why_on_the_first_page(qtbot: QtBot, tmp_path: Path) -> None:
    welcome = Welcome(open_folder)
    qtbot.addWidget(welcome)
    welcome.show()
    (tmp_path / "file").write_text("x")
    welcome.make_demo(tmp_path / "file")
    message = child(welcome, QLabel, "welcome message")
    qtbot.waitUntil(lambda: "could not be written" in message.text(), timeout=30_000)
    assert child(welcome, QPushButton, "demo").isEnabled()
    assert "{" not in message.text()


@pytest.mark.parametrize("classes", [2, 6, 100, 1000])
def test_the_matrix_takes_any_number_of_classes(qtbot: QtBot, classes: int) -> None:
    matrix = ConfusionMatrix()
    matrix.resize(600, 600)
    qtbot.addWidget(matrix)
    matrix.show_counts([f"a class with a long name {k}" for k in range(classes)], np.eye(classes, dtype=np.int64))
    matrix.show()
    matrix.grab()
    chosen: list[tuple[int, int]] = []
    matrix.chosen.connect(lambda t, _, s, __: chosen.append((t, s)))
    whole = matrix.box(classes - 1, classes - 1)
    assert whole.bottom() <= matrix.viewport().height()
    assert whole.right() <= matrix.viewport().width()
    for _ in range(20):
        qtbot.keyClick(matrix, Qt.Key.Key_Plus)
    assert matrix.box(0, 0).width() >= 20
    matrix.choose(1, 0)
    matrix.grab()
    qtbot.mouseClick(matrix.viewport(), LEFT, pos=matrix.box(1, 0).center().toPoint())
    assert chosen == [(1, 0), (1, 0)]
    qtbot.keyClick(matrix, Qt.Key.Key_Right)
    assert chosen[-1] == (1, 1)
    assert matrix.cell_at(matrix.box(1, 1).center().toPoint()) == (1, 1)
    qtbot.keyClick(matrix, Qt.Key.Key_0)
    assert matrix.zoom == 1
