"""The Results stage: images one by one, and the map with its lasso."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pytest
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QApplication, QComboBox, QLabel, QListWidget, QPushButton, QTableWidget
from pytestqt.qtbot import QtBot
from tests.answering import answer
from tests.driving import LEFT, child, click, stage

from attentive_lens.desk.requests.explaining import Explain
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.explaining.degrading import DEGRADATIONS
from attentive_lens.scoring.answers import Answer
from attentive_lens.scoring.measures import confusions, overview
from attentive_lens.scoring.ordering import ORDERS, ordered
from attentive_lens.scoring.scores import Scores
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.results import ResultsPage
from attentive_lens.window.parts.bars import Bars
from attentive_lens.window.parts.matrix import ConfusionMatrix
from attentive_lens.window.parts.sheet import ContactSheet
from attentive_lens.window.results.image_map import ImageMap
from attentive_lens.window.results.one_by_one import OneByOne
from attentive_lens.window.results.overview import AccuracyBars
from attentive_lens.window.results.robustness import GradeCurves
from attentive_lens.window.results.worse_pictures import WorseGrid
from attentive_lens.workspace import Workspace

DEGRADED = ("blur", "noise", "darker", "brighter", "contrast", "rotation", "shift", "JPEG")
NONE, NO_BUTTON = Qt.KeyboardModifier.NoModifier, Qt.MouseButton.NoButton
OpenFrame = Callable[[Workspace], Frame]


@pytest.fixture
def frame(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> Frame:
    window = open_frame(station)
    stage(qtbot, window, "results")
    qtbot.waitUntil(lambda: window.session.scores.current is not None, timeout=30_000)
    return window


def scores_of(frame: Frame) -> Scores:
    scores = frame.session.scores.current
    assert scores is not None
    return scores


def places(frame: Frame) -> list[int]:
    return [place for group in child(frame, ContactSheet, "cell images").groups for place in group.places]


def answers_shown(frame: Frame) -> list[Answer]:
    page = frame.page("results")
    assert isinstance(page, ResultsPage)
    return [answer for part in page.chosen.parts for answer in part.answers]


def test_the_sets_stand_side_by_side_with_their_gaps(qtbot: QtBot, frame: Frame) -> None:
    bars, table = child(frame, AccuracyBars, "set bars"), child(frame, QTableWidget, "overview table")
    qtbot.waitUntil(lambda: "training" in bars.views, timeout=30_000)
    assert "test" not in bars.views, "it is kept for the last judgement"
    click(qtbot, frame, "score test set")
    qtbot.waitUntil(lambda: "test" in bars.views, timeout=30_000)
    assert not child(frame, QPushButton, "score test set").isVisible()
    heads = [table.horizontalHeaderItem(column).text() for column in range(4)]
    assert heads == ["measure", "training", "validation", "test"]
    rows = {table.item(row, 0).text(): row for row in range(table.rowCount())}
    for column, on in enumerate(heads[1:], 1):
        scores = frame.session.scores.on_set(on)
        assert scores is not None
        assert table.item(rows["images"], column).text() == str(scores.images)
        assert table.item(rows["macro F1"], column).text() == f"{overview(scores).macro_f1:.3f}"
    assert (
        "Training and validation" in child(frame, QLabel, "gaps").text()
        or "behind" in child(frame, QLabel, "gaps").text()
    )
    assert "validation" in child(frame, QLabel, "small sets").text(), "sixteen images tell little"
    qtbot.mouseClick(bars, LEFT, pos=QPoint(40, 2 * 34 + 10))
    assert frame.session.scores.on == "test"
    click(qtbot, frame, "look for leaks")
    leaks = child(frame, QLabel, "overview found")
    qtbot.waitUntil(lambda: leaks.text() not in ("", "Looking for copies …"), timeout=60_000)


def test_rows_columns_and_rectangles_of_the_matrix_lead_to_their_images(qtbot: QtBot, seen: Frame) -> None:
    frame = seen
    click(qtbot, frame, "matrix of scores")
    click(qtbot, frame, "score training")
    qtbot.waitUntil(lambda: frame.session.scores.current is not None, timeout=30_000)
    scores, matrix = scores_of(frame), child(frame, ConfusionMatrix, "confusion matrix")
    orders = child(frame, QComboBox, "matrix order")
    for order in ORDERS:
        orders.setCurrentIndex(orders.findData(order))
        orders.activated.emit(orders.currentIndex())
        names = [scores.classes[k] for k in ordered(scores.confusion, scores.classes, order).tolist()]
        qtbot.waitUntil(lambda names=names: matrix.classes == names, timeout=30_000)  # type: ignore[misc]
    number = {name: k for k, name in enumerate(scores.classes)}

    def behind(rows: list[str], columns: list[str]) -> set[int]:
        own = {(number[r], number[c]) for r in rows for c in columns}
        return {a.image - 1 for a in scores.answers if (a.true, a.predicted) in own}

    names, middle = matrix.classes, matrix.box(2, 1).center().toPoint()
    qtbot.mouseClick(matrix.viewport(), LEFT, pos=QPoint(20, middle.y()))
    assert set(places(frame)) == behind([names[2]], names)
    qtbot.mouseClick(matrix.viewport(), LEFT, pos=QPoint(middle.x(), 20))
    assert set(places(frame)) == behind(names, [names[1]])
    qtbot.mouseClick(matrix.viewport(), LEFT, pos=middle)
    assert set(places(frame)) == behind([names[2]], [names[1]])
    to = matrix.box(4, 3).center().toPoint()
    qtbot.mouseClick(matrix.viewport(), LEFT, Qt.KeyboardModifier.ShiftModifier, pos=to)
    assert set(places(frame)) == behind(names[2:5], names[1:4])
    qtbot.keyClick(matrix, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    assert set(places(frame)) == behind(names[2:5], names[1:3])
    for key, wanted in ((Qt.Key.Key_R, behind([names[4]], names)), (Qt.Key.Key_A, behind(names, names))):
        qtbot.keyClick(matrix, key)
        assert set(places(frame)) == wanted
        matrix.choose(4, 2)
    pairs = child(frame, QListWidget, "confused pairs")
    summary = confusions(scores)
    assert pairs.count() == len(summary) > 0
    pairs.setCurrentRow(0)
    assert (
        f"{summary[0].images} of {summary[0].of} {summary[0].true} were said to be {summary[0].predicted}"
        == pairs.item(0).text()
    )
    assert set(places(frame)) == behind([summary[0].true], [summary[0].predicted])
    click(qtbot, frame, "matrix % of said")
    assert matrix.shares == "column"
    frame.grab()


def test_images_that_break_when_they_are_made_worse_are_shown(qtbot: QtBot, seen: Frame) -> None:
    frame = seen
    click(qtbot, frame, "robustness of scores")
    examples = child(frame, WorseGrid, "worse pictures")
    qtbot.waitUntil(lambda: examples.shown is not None, timeout=60_000)
    assert examples.shown is not None
    first = int(frame.session.scores.current.numbers[0])  # type: ignore[union-attr]
    run = frame.session.runs.current
    assert run is not None
    pixels = answer(Explain(RunImage(str(frame.session.workspace.folder), run, first))).pixels
    assert examples.shown.image == first
    for way, worse in zip(examples.shown.ways, DEGRADATIONS.values(), strict=True):
        for picture, grade in zip(way.pictures, worse.grades, strict=True):
            assert np.array_equal(picture, worse.apply(pixels, grade, first))
    assert examples.words_at(examples.box(0, 1).center().toPoint()).startswith(examples.shown.ways[0].what)
    click(qtbot, frame, "measure robustness")
    curves = child(frame, GradeCurves, "grade curves")
    qtbot.waitUntil(lambda: curves.result is not None and len(curves.result.ways) == len(DEGRADED), timeout=60_000)
    assert curves.result is not None
    row, way = next((k, way) for k, way in enumerate(curves.result.ways) if way.grades[-1].broken)
    chart = curves.charts[row]
    qtbot.mouseClick(chart, LEFT, pos=chart.place(*chart.points[-1]).toPoint())
    assert set(places(frame)) == {number - 1 for number in way.grades[-1].broken}
    qtbot.keyClick(curves, Qt.Key.Key_Left)
    assert curves.current == (row, len(way.grades) - 2)
    frame.grab()
    whole, charts = curves.result, list(curves.charts)
    curves.show_ways(replace(whole, ways=whole.ways[:2]))
    curves.choose(1, 0)
    curves.show_ways(whole)
    assert curves.current == (1, 0), "what is looked at stays while more comes"
    assert curves.charts[0] is not charts[0]
    assert [chart.way for chart in curves.charts] == list(whole.ways)
    click(qtbot, frame, "score training")
    assert curves.result is None, "of another set nothing is known yet"
    assert curves.charts == []


def test_images_are_stepped_through_with_the_share_right_so_far(qtbot: QtBot, seen: Frame) -> None:
    frame = seen
    click(qtbot, frame, "matrix of scores")
    scores, matrix = scores_of(frame), child(frame, ConfusionMatrix, "confusion matrix")
    true, predicted = next((t, s) for t, row in enumerate(scores.confusion) for s, n in enumerate(row) if n > 1)
    matrix.choose(true, predicted)
    click(qtbot, frame, "one by one of images")
    steps = child(frame, OneByOne, "one by one")
    every = answers_shown(frame)
    assert [a.image for a in every] == [place + 1 for place in places(frame)]
    right = sum(a.predicted == a.true for a in every)
    for at, own in enumerate(every):
        names = scores.classes[own.predicted], scores.classes[own.true]
        words = child(frame, QLabel, "step title").text()
        assert words == (f"said {names[0]}, true {names[1]}" if names[0] != names[1] else f"{names[0]}, rightly")
        summary = child(frame, QLabel, "step so far").text()
        assert summary.startswith(f"{at + 1} of {len(every)} · {right} of them right, {right / len(every) * 100:.1f}")
        row = [a.image for a in scores.answers].index(own.image)
        bars = child(frame, Bars, "step bars").bars
        assert {bar.name: bar.figure for bar in bars} == {
            name: f"{scores.probabilities[row, k]:.3f}" for k, name in enumerate(scores.classes)
        }
        assert bars[0].name == names[0], "the surest first"
        qtbot.keyClick(steps, Qt.Key.Key_Right)
    assert child(frame, ContactSheet, "cell images").current == every[-1].image - 1
    qtbot.keyClick(steps, Qt.Key.Key_Home)
    assert child(frame, QLabel, "step so far").text().startswith("1 of")
    qtbot.keyClick(steps, Qt.Key.Key_Return)
    assert frame.current == "explain"


def lasso(qtbot: QtBot, drawn: ImageMap, corners: list[tuple[float, float]], held: Qt.KeyboardModifier = NONE) -> None:
    """Draw about places of the map with the mouse."""
    at = [QPoint(round(x), round(y)) for x, y in corners]
    qtbot.mousePress(drawn, LEFT, held, at[0])
    for point in at[1:]:
        move = QMouseEvent(QEvent.Type.MouseMove, QPointF(point), QPointF(point), LEFT, LEFT, held)
        QApplication.sendEvent(drawn, move)
    qtbot.mouseRelease(drawn, LEFT, held, at[-1])


def test_a_lasso_on_the_map_leads_to_another_set_and_back(qtbot: QtBot, frame: Frame) -> None:
    click(qtbot, frame, "map of scores")
    drawn = child(frame, ImageMap, "image map")
    qtbot.waitUntil(lambda: drawn.result is not None, timeout=60_000)
    qtbot.waitUntil(lambda: "answered wrongly" in child(frame, QLabel, "map says").text(), timeout=60_000)
    result = drawn.result
    assert result is not None
    middle = np.round(drawn.at()[0])  # the mouse goes from pixel to pixel
    box = [(middle[0] + dx, middle[1] + dy) for dx, dy in ((-40, -40), (40, -40), (40, 40), (-40, 40))]
    lasso(qtbot, drawn, box)
    result = drawn.result  # the last that was told while it was laid out
    within = (np.abs(drawn.at() - middle) <= 40).all(axis=1)
    held = set(result.images[within].tolist())
    assert {place + 1 for place in places(frame)} == held == drawn.selection
    for own in answers_shown(frame):
        row = result.images.tolist().index(own.image)
        assert (own.predicted, own.true) == (result.predicted[row], result.true[row])
    collection = frame.session.images.collection
    before = {number: collection.sets[number - 1] for number in held}
    page = frame.page("results")
    assert isinstance(page, ResultsPage)
    page.chosen.decisions.move_to("test")
    assert {frame.session.images.collection.sets[number - 1] for number in held} == {"test"}
    qtbot.keyClick(frame, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert {number: frame.session.images.collection.sets[number - 1] for number in held} == before


def test_the_map_zooms_moves_hides_sets_and_chooses_by_keys(qtbot: QtBot, seen: Frame) -> None:
    frame = seen
    click(qtbot, frame, "map of scores")
    click(qtbot, frame, "map by PCA")
    drawn, says = child(frame, ImageMap, "image map"), child(frame, QLabel, "map says")
    qtbot.waitUntil(lambda: "of the variance" in says.text(), timeout=60_000)
    assert drawn.result is not None
    numbers, sets = drawn.result.images.tolist(), frame.session.images.collection.sets
    qtbot.keyClick(drawn, Qt.Key.Key_Return)
    assert drawn.selection == set(numbers)
    click(qtbot, frame, "map of training")
    qtbot.keyClick(drawn, Qt.Key.Key_Return)
    assert drawn.selection == {number for number in numbers if sets[number - 1] != "training"}
    whole = len(drawn.pictured())
    for _ in range(8):
        qtbot.keyClick(drawn, Qt.Key.Key_Plus)
    assert len(drawn.pictured()) >= whole
    assert len(drawn.in_view()) < len(drawn.selection)
    before = drawn.at()
    qtbot.keyClick(drawn, Qt.Key.Key_Right)
    assert (drawn.at() - before)[:, 0] == pytest.approx(-60)
    seen = drawn.in_view()
    click(qtbot, frame, "choose in view")
    assert drawn.selection == {numbers[row] for row in seen.tolist()}
    row = int(drawn.pictured()[0])
    qtbot.keyClick(drawn, Qt.Key.Key_0)
    x, y = drawn.at()[row]
    at = QPointF(float(x), float(y))
    QApplication.sendEvent(drawn, QMouseEvent(QEvent.Type.MouseMove, at, at, NO_BUTTON, NO_BUTTON, NONE))
    assert f"image {numbers[drawn.over]} ·" in says.text()
    frame.grab()
    layer = child(frame, QComboBox, "map layer")
    layer.setCurrentIndex(layer.findData("relu 1"))
    layer.activated.emit(layer.currentIndex())
    qtbot.waitUntil(lambda: "by relu 1" in says.text(), timeout=60_000)
