"""An adversarial pair in the real window: chosen, set, trained, drawn from by class, held beside real images."""

from __future__ import annotations

import shutil
from collections.abc import Callable

import pytest
from PyQt6.QtCore import QPointF
from PyQt6.QtWidgets import QComboBox, QLineEdit, QPushButton, QSpinBox
from pytestqt.qtbot import QtBot
from tests.driving import LEFT, child, click, drawn_sheet, said, stage

from attentive_lens.core.jobs import finish
from attentive_lens.desk.training.executing import execute
from attentive_lens.plan.plan import Plan
from attentive_lens.window.bench.geometry import Geometry
from attentive_lens.window.bench.layout import layout_of
from attentive_lens.window.bench.plates import plates_of
from attentive_lens.window.frame import Frame
from attentive_lens.window.network.chooser import StarterCard
from attentive_lens.window.pages.training import TrainingPage
from attentive_lens.window.parts.basics import to_image
from attentive_lens.window.parts.drawn_sheet import DrawnSheet
from attentive_lens.window.parts.picture import PictureBox
from attentive_lens.window.results.views import VIEWS, views_of
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]
SMALL = {
    "network": "generator, by class",
    "preprocessing.input_size": 16,
    "training.epochs": 2,
    "augmentation": "none",
}


@pytest.fixture
def frame(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> Frame:
    finish(execute(station, station.claim_run(Plan().changed(SMALL)), lambda: False))
    window = open_frame(station)
    stage(qtbot, window, "results")
    return window


def test_both_rails_stand_on_the_bench_and_nothing_leads_from_the_image_into_noise() -> None:
    plan = Plan().changed(SMALL)
    network = plan.network_for(3)
    facts = {fact.name: fact for fact in network.facts(plan.preprocessing.shape)}
    plates = plates_of(network.nodes, facts, plan.preprocessing.shape)
    geometry = Geometry(plates, layout_of(plates), 900, 300, 200, 0)
    names = {(plates[a].name, plates[b].name) for a, b in geometry.edges}
    assert ("image", "real or drawn 1") in names
    assert ("drawing", "real or drawn 1") in names
    assert not {pair for pair in names if pair[1] in ("noise 1", "class 1")}
    assert sum(pair[0] == "class 1" for pair in names) == 2


def test_samples_stand_in_a_row_for_each_class_and_one_can_be_chosen(qtbot: QtBot, frame: Frame) -> None:
    shown = [word for word in VIEWS if child(frame, QPushButton, f"{word} of scores").isVisible()]
    assert shown == list(views_of("generate")) == ["samples", "fidelity", "manifold"]
    assert said(frame, "results about").startswith("variety on validation")
    drawn = drawn_sheet(qtbot, frame, "samples")
    classes = frame.session.runs.classes()
    assert drawn.row_names == classes
    assert drawn.rows == len(classes)
    assert drawn.left > 0
    second = drawn.box(drawn.columns).center()
    assert drawn.at(QPointF(1, second.y())) == -1, "a name is no image"
    qtbot.mouseClick(drawn, LEFT, pos=second.toPoint())
    assert said(frame, "samples about").startswith(f"{classes[1]}\n")
    first = list(drawn.pictures)
    box = child(frame, QComboBox, "samples class")
    assert [box.itemText(k) for k in range(box.count())] == ["all classes", *classes]
    box.setCurrentText(classes[2])
    qtbot.waitUntil(lambda: not drawn.row_names, timeout=30_000)
    each = len(first) // len(classes)
    assert drawn.pictures[:each] == first[2 * each : 3 * each], "the same noise"
    child(frame, QSpinBox, "samples seed").setValue(5)
    qtbot.waitUntil(lambda: drawn.pictures[0] != first[2 * each], timeout=30_000)


def test_drawings_stand_beside_the_training_images_nearest_to_them(qtbot: QtBot, frame: Frame) -> None:
    pairs = drawn_sheet(qtbot, frame, "fidelity")
    result = frame.page("results").current.result  # type: ignore[attr-defined]
    assert len(pairs.pictures) == 2 * len(result.drawn)
    assert said(frame, "fidelity precision").replace("\u202f", "") == f"{result.whole.precision * 100:.1f}%"
    assert said(frame, "fidelity class") != "–"
    assert "Least of all" in said(frame, "fidelity more")
    qtbot.mouseClick(pairs, LEFT, pos=pairs.box(5).center().toPoint())
    assert f"image {result.nearest[2]}" in said(frame, "fidelity about")
    assert child(frame, PictureBox, "nearest training image").picture is not None
    manifold = drawn_sheet(qtbot, frame, "manifold")
    assert manifold.rows == 15
    assert not child(frame, QPushButton, "manifold images").isVisible(), "images have no codes"
    box = child(frame, QComboBox, "manifold class")
    assert box.currentText() == frame.session.runs.classes()[0]
    before = list(manifold.pictures)
    box.setCurrentIndex(1)
    qtbot.waitUntil(lambda: manifold.pictures != before, timeout=30_000)


def test_training_tells_variety_and_both_sides_and_plays_a_film_by_class(qtbot: QtBot, frame: Frame) -> None:
    stage(qtbot, frame, "training")
    measure = child(frame, QComboBox, "curve measure")
    labels = [measure.itemText(k) for k in range(measure.count())]
    assert labels[:5] == [
        "variety", "discriminator loss", "told apart", "real judged real", "drawn judged drawn"
    ]  # fmt: skip
    assert "discriminator learning rate" in labels
    click(qtbot, frame, "answers view")
    film = child(frame, DrawnSheet, "film sheet")
    classes = frame.session.runs.classes()
    qtbot.waitUntil(lambda: film.row_names == classes, timeout=10_000)
    assert (film.rows, film.columns) == (len(classes), 4)
    frames = frame.session.runs.film()
    stored = frame.session.runs.frame(frames[-1])
    assert stored is not None
    for row in range(len(classes)):
        for column in range(4):  # in turn as they are stored
            shown = film.pictures[row * 4 + column]
            assert shown == to_image(stored.samples[column * len(classes) + row])
    frame.session.runs.choose(1)
    qtbot.waitUntil(lambda: child(frame, QPushButton, "answers view").text() == "Answers", timeout=10_000)


def test_before_a_first_run_the_charts_are_of_the_plan_in_hand(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    shutil.rmtree(station.folder / "runs")
    frame = open_frame(station)
    stage(qtbot, frame, "training")
    page = frame.page("training")
    assert isinstance(page, TrainingPage)
    for task, first, unit in (
        ("generate", "variety", ""),
        ("encode", "lower bound", ""),
        ("classify", "accuracy", "%"),
    ):
        frame.session.design.change(frame.session.design.plan.changed({"task": task}))
        qtbot.waitUntil(lambda first=first: page.curves.measure.itemText(0) == first, timeout=10_000)  # type: ignore[misc]
        assert page.curves.accuracy.unit == unit


def test_a_pair_is_chosen_set_trained_and_looked_at(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> None:
    frame = open_frame(station)
    design = frame.session.design
    design.change(design.plan.changed({"preprocessing.input_size": 16, "training.epochs": 1}))
    design.change(design.plan.changed({"stopping.target": 0.9, "stopping.target_measure": "accuracy"}))
    stage(qtbot, frame, "training")
    fold = child(frame, QPushButton, "discriminator settings")
    assert not fold.isVisible()
    stage(qtbot, frame, "network")
    click(qtbot, frame, "choose starter")
    card = child(frame, StarterCard, "starter generator")
    qtbot.waitUntil(card.isVisible, timeout=10_000)
    qtbot.mouseClick(card, LEFT)
    assert design.plan.task.kind == "generate"
    stage(qtbot, frame, "training")
    qtbot.waitUntil(fold.isVisible, timeout=10_000)
    search = child(frame, QLineEdit, "find setting")
    search.setText("beta 2")
    assert fold.isVisible()
    search.setText("patience of nothing")
    assert not fold.isVisible()
    search.clear()
    assert fold.isVisible()
    assert frame.findChildren(QLineEdit, "discriminator_optimiser.learning_rate")
    assert len(frame.findChildren(QLineEdit, "optimiser.learning_rate")) == 1
    design.change(design.plan.changed({"discriminator_optimiser.learning_rate": 0.002}))
    assert "learning rate 0.002" in said(frame, "discriminator settings says")
    click(qtbot, frame, "main action")
    qtbot.waitUntil(lambda: bool(frame.session.runs.view and frame.session.runs.view.state == "done"), timeout=90_000)
    plan = frame.session.runs.plan()
    assert plan is not None
    assert plan.discriminator_optimiser.learning_rate == 0.002
    stage(qtbot, frame, "results")
    drawn = drawn_sheet(qtbot, frame, "samples")
    assert len(drawn.pictures) == 64
    assert drawn.row_names == ()
    assert not child(frame, QComboBox, "samples class").isVisible()
