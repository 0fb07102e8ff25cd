"""A network that draws, in the real window: chosen, trained, looked at."""

from __future__ import annotations

from collections.abc import Callable
from statistics import NormalDist

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QComboBox, QLabel, QPushButton, QSpinBox
from pytestqt.qtbot import QtBot
from tests.driving import LEFT, child, click, drawn_sheet, said, stage

from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.drawing import EncodeImages
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.plan.plan import Plan
from attentive_lens.window.frame import Frame
from attentive_lens.window.network.chooser import StarterCard
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.parts.chart import Chart
from attentive_lens.window.parts.contents import Entry
from attentive_lens.window.parts.drawn_sheet import DrawnSheet
from attentive_lens.window.parts.picture import PictureBox
from attentive_lens.window.results.class_key import ClassKey
from attentive_lens.window.results.image_map import ImageMap
from attentive_lens.window.results.views import VIEWS, views_of
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]
SMALL = {"network": "variational, two codes", "preprocessing.input_size": 16, "training.epochs": 2}


@pytest.fixture
def frame(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> Frame:
    plan = Plan().changed({**SMALL, "augmentation": "none"})
    finish(execute(station, station.claim_run(plan), lambda: False))
    window = open_frame(station)
    stage(qtbot, window, "results")
    return window


def codes(frame: Frame) -> list[float]:
    """Those under the pointer."""
    return [float(word.replace("\u2212", "-")) for word in said(frame, "manifold about")[6:].split(", ")]


def test_results_of_a_run_that_draws_are_its_drawings_and_nothing_else(qtbot: QtBot, frame: Frame) -> None:
    shown = [word for word in VIEWS if child(frame, Entry, f"{word} of scores").isVisible()]
    assert shown == list(views_of("encode"))
    assert shown == ["reconstructions", "samples", "fidelity", "manifold", "between", "map"]
    assert said(frame, "results title").endswith("nats")
    assert "divergence" in said(frame, "results about")
    assert not child(frame, QLabel, "results problem").isVisible()
    assert child(frame, QPushButton, "main action").text() == "Change the network"
    frame.session.runs.choose(1)
    qtbot.waitUntil(lambda: frame.session.scores.current is not None, timeout=30_000)
    shown = [word for word in VIEWS if child(frame, Entry, f"{word} of scores").isVisible()]
    assert shown == list(views_of("classify"))
    assert said(frame, "results title").endswith("%")
    frame.session.runs.choose(2)
    assert said(frame, "results title").endswith("nats")


def test_without_held_out_images_the_bound_is_said_to_be_of_training_images(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    plan = Plan().changed({**SMALL, "split.validation_fraction": 0.0})
    finish(execute(station, station.claim_run(plan), lambda: False))
    frame = open_frame(station)
    stage(qtbot, frame, "results")
    assert "lower bound on training images" in said(frame, "results about")
    frame.session.runs.choose(1)
    stage(qtbot, frame, "training")
    frame.session.runs.choose(2)
    click(qtbot, frame, "answers view")
    film = child(frame, DrawnSheet, "film sheet")
    qtbot.waitUntil(lambda: len(film.pictures) == 8, timeout=10_000)  # random codes alone


def test_images_stand_beside_what_is_drawn_of_them(qtbot: QtBot, frame: Frame) -> None:
    drawn = drawn_sheet(qtbot, frame, "reconstructions")
    page = frame.page("results")
    result = page.current.result  # type: ignore[attr-defined]
    assert len(drawn.pictures) == 2 * len(result.images)
    assert drawn.columns % 2 == 0
    assert f"image {result.numbers[0]}" in said(frame, "reconstructions about")
    place = drawn.box(5).center().toPoint()
    qtbot.mouseClick(drawn, LEFT, pos=place)
    assert drawn.current == 5
    assert f"image {result.numbers[2]}" in said(frame, "reconstructions about")
    qtbot.keyClick(drawn, Qt.Key.Key_Left)
    qtbot.keyClick(drawn, Qt.Key.Key_Left)
    assert f"image {result.numbers[1]}" in said(frame, "reconstructions about")
    picture = child(frame, PictureBox, "drawn again").picture
    assert picture is not None
    order = child(frame, QComboBox, "reconstructions order")
    worst = result.errors[0]
    order.setCurrentText("best first")
    qtbot.waitUntil(lambda: page.current.result.errors[0] < worst, timeout=30_000)  # type: ignore[attr-defined]
    click(qtbot, frame, "score test")
    qtbot.waitUntil(lambda: page.current.result.on == "test", timeout=30_000)  # type: ignore[attr-defined]


def test_the_likelihood_is_estimated_when_it_is_wanted_and_forgotten_with_the_set(qtbot: QtBot, frame: Frame) -> None:
    drawn_sheet(qtbot, frame, "reconstructions")
    assert said(frame, "estimated likelihood") == ""
    click(qtbot, frame, "estimate likelihood")
    qtbot.waitUntil(lambda: "codes each: about" in said(frame, "estimated likelihood"), timeout=60_000)
    assert "validation images" in said(frame, "estimated likelihood")
    click(qtbot, frame, "score test")
    qtbot.waitUntil(lambda: said(frame, "estimated likelihood") == "", timeout=30_000)


def test_the_map_lays_images_out_by_their_codes_and_calls_none_wrong(qtbot: QtBot, frame: Frame) -> None:
    click(qtbot, frame, "map of scores")
    shown = child(frame, ImageMap, "image map")
    qtbot.waitUntil(lambda: shown.result is not None, timeout=60_000)
    assert shown.result is not None
    code = frame.session.runs.facts()[0].code.name  # type: ignore[index]
    assert f"by {code}" in said(frame, "map says")
    assert "wrong" not in said(frame, "map says")
    assert child(frame, QComboBox, "map layer").itemText(0) == "the codes"
    assert not shown.result.wrong.any()
    click(qtbot, frame, "choose in view")
    count = len(shown.in_view())
    assert said(frame, "cell title") == f"{count} images chosen on the map"
    assert child(frame, QPushButton, "main action").text() == "Change the network"
    captions = [caption for part in frame.page("results").chosen.parts for caption in part.captions]  # type: ignore[attr-defined]
    assert set(captions) <= set(shown.result.classes)
    assert len(captions) == count
    for name in ("all wrong", "sheet of images", "one by one of images"):
        assert not child(frame, QPushButton, name).isVisible()
    frame.session.runs.choose(1)
    click(qtbot, frame, "map of scores")
    qtbot.waitUntil(lambda: "answered wrongly" in said(frame, "map says"), timeout=60_000)
    click(qtbot, frame, "choose in view")
    assert child(frame, QPushButton, "sheet of images").isVisible()


def test_samples_follow_the_seed(qtbot: QtBot, frame: Frame) -> None:
    drawn = drawn_sheet(qtbot, frame, "samples")
    first = drawn.pictures[0]
    assert said(frame, "samples about").startswith("codes ")
    child(frame, QSpinBox, "samples seed").setValue(3)
    qtbot.waitUntil(lambda: drawn.pictures[0] != first, timeout=30_000)
    child(frame, QSpinBox, "samples seed").setValue(0)
    qtbot.waitUntil(lambda: drawn.pictures[0] == first, timeout=30_000)


def test_the_way_between_two_images_follows_their_numbers(qtbot: QtBot, frame: Frame) -> None:
    drawn = drawn_sheet(qtbot, frame, "between")
    assert len(drawn.pictures) == 25
    images = frame.session.images.collection
    one, other = (child(frame, QSpinBox, f"between {word}").value() for word in ("from", "to"))
    assert images.sets[one - 1] == images.sets[other - 1] == "validation"
    assert images.rows[one - 1].label != images.rows[other - 1].label
    for word in ("from", "to"):
        assert child(frame, PictureBox, f"the way leads {word}").picture is not None
    first, last = drawn.pictures[0], drawn.pictures[-1]
    assert first != last
    qtbot.mouseClick(drawn, LEFT, pos=drawn.box(12).center().toPoint())
    assert said(frame, "between about").startswith("50")
    child(frame, QSpinBox, "between from").setValue(other)
    qtbot.waitUntil(lambda: drawn.pictures[0] == last, timeout=30_000)
    assert drawn.pictures[-1] == last


def test_the_map_of_two_codes_draws_what_is_pointed_at_and_shows_where_images_are(qtbot: QtBot, frame: Frame) -> None:
    drawn = drawn_sheet(qtbot, frame, "manifold")
    assert drawn.rows == drawn.columns == 15
    large = child(frame, PictureBox, "under the pointer")
    qtbot.mouseMove(drawn, QPoint(40, 60))
    qtbot.waitUntil(lambda: large.picture is not None, timeout=30_000)
    before = said(frame, "manifold about")
    area = drawn.area()
    qtbot.mouseMove(drawn, QPoint(int(area.width() / 2), int(area.height() / 2)))
    qtbot.waitUntil(lambda: said(frame, "manifold about") != before, timeout=30_000)
    assert np.abs(codes(frame)).max() < 0.1
    middle = drawn.pictures[112].pixelColor(8, 8)
    here = large.picture.pixelColor(8, 8)  # type: ignore[union-attr]
    assert abs(middle.red() - here.red()) < 12
    qtbot.mouseMove(drawn, QPoint(int(area.width() * 0.9), int(area.height() * 0.95)))
    qtbot.waitUntil(lambda: codes(frame)[0] > 1, timeout=30_000)
    assert codes(frame) == pytest.approx([1.28, -1.64], abs=0.05)
    click(qtbot, frame, "manifold images")
    qtbot.waitUntil(lambda: len(drawn.dots) > 0, timeout=30_000)
    assert len(drawn.dots) == frame.session.images.collection.count("validation")
    encoded = finish(carry_out(EncodeImages(frame.session.place, 2)))
    below = np.array([[NormalDist().cdf(code) for code in row] for row in encoded.codes.tolist()])
    assert drawn.dots == pytest.approx(np.stack([below[:, 0], 1 - below[:, 1]], axis=1), abs=1e-6)
    assert np.array_equal(drawn.classes, encoded.labels)
    assert child(frame, ClassKey, "class key").names
    click(qtbot, frame, "score test")
    tested = finish(carry_out(EncodeImages(frame.session.place, 2, "test"))).codes[:, 0].tolist()
    across = np.array([NormalDist().cdf(code) for code in tested])
    qtbot.waitUntil(lambda: len(drawn.dots) == len(across) and np.allclose(drawn.dots[:, 0], across), timeout=10_000)
    click(qtbot, frame, "manifold images")
    assert not len(drawn.dots)
    drawn.setFocus()
    for key in (*[Qt.Key.Key_Right] * 4, Qt.Key.Key_Down):
        qtbot.keyClick(drawn, key)
    assert drawn.current == 18
    qtbot.waitUntil(lambda: codes(frame) == pytest.approx([-0.73, 1.28], abs=0.02), timeout=30_000)
    child(frame, QSpinBox, "code across").setValue(2)
    assert child(frame, QSpinBox, "code down").value() == 1


def test_training_and_explaining_say_what_such_a_run_is(qtbot: QtBot, frame: Frame) -> None:
    stage(qtbot, frame, "training")
    qtbot.waitUntil(lambda: said(frame, "figure best").endswith("nats"), timeout=30_000)
    measure = child(frame, QComboBox, "curve measure")
    assert [measure.itemText(k) for k in range(measure.count())] == ["lower bound", "reconstruction", "divergence"]
    low, high = child(
        frame, Chart, "measure chart" if frame.findChild(Chart, "measure chart") else "accuracy chart"
    ).limits()
    assert low < 0 < high or low < high <= 0
    click(qtbot, frame, "answers view")
    assert child(frame, QPushButton, "answers view").text() == "Film"
    film = child(frame, DrawnSheet, "film sheet")
    qtbot.waitUntil(lambda: len(film.pictures) == 24, timeout=10_000)
    assert said(frame, "film says") == "Epoch 2"
    last = list(film.pictures)
    click(qtbot, frame, "play film")
    qtbot.waitUntil(lambda: said(frame, "film says") == "Epoch 1", timeout=10_000)
    assert film.pictures[:8] == last[:8]
    assert film.pictures[8:] != last[8:]
    qtbot.waitUntil(lambda: not child(frame, QPushButton, "play film").isChecked(), timeout=10_000)
    assert said(frame, "film says") == "Epoch 2"
    frame.session.runs.choose(1)
    qtbot.waitUntil(lambda: child(frame, QPushButton, "answers view").text() == "Answers", timeout=10_000)
    assert not film.isVisible()
    frame.session.runs.choose(2)
    stage(qtbot, frame, "explain")
    texts = [label.text() for label in frame.page("explain").findChildren(QLabel) if label.isVisible()]
    assert any("draws images and answers no classes" in text for text in texts)


def test_an_image_under_the_lens_waits_while_a_run_that_draws_is_in_view(qtbot: QtBot, frame: Frame) -> None:
    bad: list[str] = []
    frame.session.message.connect(lambda words, is_bad: bad.append(words) if is_bad else None)
    page = frame.page("explain")
    assert isinstance(page, ExplainPage)
    frame.session.runs.choose(1)
    frame.session.explain_asked.emit(3)
    qtbot.waitUntil(lambda: page.explanation is not None and page.stack.currentIndex() == 1, timeout=30_000)
    for stage_name in ("explain", "results", "training", "network", "images", "explain"):
        stage(qtbot, frame, stage_name)
        frame.session.runs.choose(2)
        qtbot.wait(150)
        if stage_name == "explain":
            assert page.stack.currentIndex() == 0
        frame.session.explain_asked.emit(4)
        frame.session.runs.choose(1)
    qtbot.waitUntil(lambda: page.stack.currentIndex() == 1, timeout=30_000)
    assert bad == []


def test_a_network_that_draws_is_chosen_trained_and_looked_at(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    frame.session.design.change(
        frame.session.design.plan.changed({"preprocessing.input_size": 16, "training.epochs": 1})
    )
    stage(qtbot, frame, "network")
    click(qtbot, frame, "choose starter")
    card = child(frame, StarterCard, "starter variational, two codes")
    qtbot.waitUntil(card.isVisible, timeout=10_000)
    qtbot.mouseClick(card, LEFT)
    assert frame.session.design.plan.task.kind == "encode"
    assert frame.session.design.plan.name == "variational, two codes"
    click(qtbot, frame, "main action")
    assert frame.current == "training"
    if frame.session.runs.training is None:
        click(qtbot, frame, "main action")
    qtbot.waitUntil(lambda: bool(frame.session.runs.view and frame.session.runs.view.state == "done"), timeout=90_000)
    stage(qtbot, frame, "results")
    assert drawn_sheet(qtbot, frame, "manifold").rows == 15
