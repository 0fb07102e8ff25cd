"""The one layout of the stages, what flows in it, the way through the window, and that nothing in it is cut."""

from __future__ import annotations

import json
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from PyQt6.QtCore import QPoint, QRect, QSize, Qt
from PyQt6.QtWidgets import QLabel, QLineEdit, QSplitter, QWidget
from pytestqt.qtbot import QtBot
from tests.answering import answer
from tests.driving import LEFT, child, click, stage
from tests.window.fitting import controls

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.requests.numbers import LayerNumbers
from attentive_lens.desk.training.executing import execute
from attentive_lens.window import look
from attentive_lens.window.application import make_frame
from attentive_lens.window.explaining.channel_rows import INPUTS, kernel_picture, strongest_inputs
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.pages.results import ResultsPage
from attentive_lens.window.pages.training import TrainingPage
from attentive_lens.window.parts.bars import Bars
from attentive_lens.window.parts.flow import Flow, Turning
from attentive_lens.window.parts.sheet import ContactSheet
from attentive_lens.window.parts.tiles import Tiles
from attentive_lens.window.session import Session
from attentive_lens.window.training.runs_list import ROW, RunsList, small_curve, standing
from attentive_lens.window.way import MOST, Place, Way
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]


def flowing(widths: list[int], gap: int = 6) -> tuple[QWidget, list[QWidget]]:
    whole = QWidget()
    flow, widgets = Flow(whole, gap), []
    for width in widths:
        one = QWidget()
        one.setFixedSize(width, 20)
        flow.addWidget(one)
        widgets.append(one)
    return whole, widgets


@given(widths=st.lists(st.integers(5, 90), min_size=1, max_size=9), room=st.integers(90, 300))
def test_what_flows_keeps_its_order_its_size_and_apart(qapp: object, widths: list[int], room: int) -> None:
    whole, widgets = flowing(widths)
    layout = whole.layout()
    assert layout is not None
    layout.setGeometry(QRect(0, 0, room, layout.heightForWidth(room)))
    boxes = [each.geometry() for each in widgets]
    assert [box.width() for box in boxes] == widths
    for before, box in pairwise(boxes):
        same_line = before.top() == box.top()
        assert box.left() == before.right() + 1 + 6 if same_line else box.left() == 0 and box.top() == before.top() + 26
        assert same_line or before.right() + 1 + 6 + box.width() > room, "a line is broken only where it must be"
    assert max(box.right() for box in boxes) < room
    assert layout.heightForWidth(room) == boxes[-1].bottom() + 1
    assert layout.sizeHint() == QSize(sum(widths) + 6 * (len(widths) - 1), 20)
    assert layout.minimumSize() == QSize(max(widths), 20)


def test_what_is_hidden_takes_no_room(qapp: object) -> None:
    whole, widgets = flowing([60, 60, 60])
    layout = whole.layout()
    assert layout is not None
    whole.show()
    assert layout.heightForWidth(130) == 46
    widgets[1].hide()
    assert layout.heightForWidth(130) == 20
    assert layout.takeAt(0) is not None
    assert layout.count() == 2
    assert layout.itemAt(7) is layout.takeAt(7) is None


def test_a_pair_stands_or_lies_by_its_room(qtbot: QtBot) -> None:
    pair = Turning(400)
    qtbot.addWidget(pair)
    one, other = QLabel("one"), QLabel("other")
    for each in (one, other):
        pair.box.addWidget(each)
    pair.show()
    for wide in (300, 500, 399, 400):
        pair.resize(wide, 300)
        assert pair.is_wide == (wide >= 400)
        qtbot.waitUntil(lambda: (one.y() == other.y()) == pair.is_wide, timeout=5_000)


@given(count=st.integers(0, 40), width=st.integers(120, 900), height=st.integers(90, 700))
def test_tiles_are_as_large_as_lets_all_be_seen(qapp: object, count: int, width: int, height: int) -> None:
    from PyQt6.QtGui import QImage

    from attentive_lens.window.parts.tiles import GAP, MARGIN, Tile

    tiles = Tiles("tiles", "tiles", 60, 150)
    tiles.resize(width, height)
    tiles.show()
    picture = QImage(4, 4, QImage.Format.Format_RGB888)
    tiles.show_tiles(tuple(Tile((picture,), str(k)) for k in range(count)))
    assert 60 <= tiles.side <= 150
    rows = -(-count // tiles.columns)
    seen = 2 * MARGIN + rows * tiles.step - GAP <= height
    if tiles.side > 60 and not seen:
        assert tiles.columns == max(1, (width - 2 * MARGIN + GAP) // (60 + GAP)), "then they fill the width"
    if seen and 60 < tiles.side < 150 and tiles.columns > 1:
        larger = (width - 2 * MARGIN + GAP) // (tiles.columns - 1) - GAP
        rows = -(-count // (tiles.columns - 1))
        tall = 2 * MARGIN + rows * (min(150, larger) + 2 + 18 + GAP) - GAP
        assert tall > height, "fewer beside each other would not all be seen"


def test_the_way_is_kept_in_both_directions() -> None:
    way, here = Way(), [Place("images"), Place("results", {"view": 1}), Place("explain", {"image": 7})]
    assert way.step(here[0]) is None
    way.leave(here[0])
    way.leave(here[1])
    assert way.step(here[2]) == here[1]
    assert way.step(here[1]) == here[0]
    assert way.step(here[0]) is None
    assert way.step(here[0], forward=True) == here[1]
    assert way.step(here[1], forward=True) == here[2]
    assert way.step(here[2], forward=True) is None
    assert way.step(here[2]) == here[1]
    way.leave(here[1])
    assert way.step(here[0], forward=True) is None, "what lay ahead is forgotten"
    for k in range(MOST + 9):
        way.leave(Place("explain", {"image": k}))
        way.leave(Place("explain", {"image": k}))
    assert len(way.behind) == MOST


def test_one_comes_back_to_exactly_where_one_was(qtbot: QtBot, shared: Frame, page: ExplainPage) -> None:
    frame, mistakes = shared, shared.session.scores.mistakes()
    results = frame.page("results")
    assert isinstance(results, ResultsPage)
    frame.show_stage("results")
    click(qtbot, frame, "matrix of scores")
    results.behind.wrong()
    sheet = results.chosen.sheet
    place = sheet.groups[0].places[0]
    sheet.select(place)
    qtbot.keyClick(sheet, Qt.Key.Key_E)
    assert (frame.current, page.image) == ("explain", place + 1)
    click(qtbot, frame, "evidence layers")
    click(qtbot, frame, "view numbers")
    other = next(image for image in mistakes if image != page.image)
    page.open_image(other)
    click(qtbot, frame, "evidence maps")
    frame.step_way()
    assert (frame.current, page.image) == ("explain", place + 1)
    assert page.evidence.current.title == "Numbers"
    frame.step_way()
    assert (frame.current, results.shown.currentIndex(), sheet.current) == ("results", 1, place)
    for _ in range(2):
        frame.step_way(forward=True)
    assert (frame.current, page.image) == ("explain", other)
    frame.step_way(forward=True)
    assert "nothing ahead" in child(frame, QLabel, "message").text()


def test_any_image_is_explained_given_a_case_or_set_beside_its_like_by_a_key(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "images")
    sheet = frame.page("images").findChild(ContactSheet, "contact sheet") or frame.page("images").browser.sheet  # type: ignore[attr-defined]
    place = sheet.groups[0].places[2]
    sheet.select(place)
    qtbot.keyClick(sheet, Qt.Key.Key_C)
    page = frame.page("explain")
    assert isinstance(page, ExplainPage)
    assert (frame.current, page.image) == ("explain", place + 1)
    book = frame.session.cases
    qtbot.waitUntil(lambda: book.book.of_image(place + 1) is not None, timeout=60_000)
    qtbot.keyClick(sheet, Qt.Key.Key_N)
    assert page.evidence.panels.currentIndex() == 2
    assert len(book.book.cases) == 1


def test_a_class_of_many_is_found_by_typing(
    qtbot: QtBot, open_frame: OpenFrame, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for k in range(14):
        folder = tmp_path / "images" / f"kind {k}"
        folder.mkdir(parents=True)
        for n in range(2):
            Image.fromarray(np.full((8, 8, 3), 17 * k + n, np.uint8)).save(folder / f"{n}.png")
    frame = open_frame(finish(make_workspace(tmp_path / "grains", tmp_path / "images")).workspace)
    stage(qtbot, frame, "images")
    find, bars = child(frame, QLineEdit, "find class"), child(frame, Bars, "class bars")
    assert find.isVisible()
    assert len(bars.bars) == 14
    qtbot.keyClicks(find, "KIND 1")
    names = [bar.name for bar in bars.bars]
    assert names == ["kind 1", "kind 10", "kind 11", "kind 12", "kind 13"]
    qtbot.mouseClick(bars, LEFT, pos=QPoint(10, 2 * 22 + 5))
    sheet = child(frame, ContactSheet, "contact sheet")
    classes, rows = frame.session.images.collection.classes, frame.session.images.collection.rows
    shown = [place for group in sheet.groups for place in group.places]
    assert {classes[rows[place].label] for place in shown} == {"kind 11"}
    find.clear()
    assert bars.current == classes.index("kind 11")
    find.setText("no such kind")
    qtbot.keyClick(find, Qt.Key.Key_Return)
    assert bars.bars == ()


def test_the_evidence_has_the_whole_width_by_a_key_and_its_own_is_remembered(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    frame = open_frame(station)
    stage(qtbot, frame, "training")
    page = frame.page("training")
    qtbot.keyClick(page, Qt.Key.Key_F)
    assert page.parts.is_alone
    assert not page.parts.hero.isVisible()
    click(qtbot, frame, "training evidence alone")
    assert page.parts.hero.isVisible()
    splitter = child(frame, QSplitter, "training splitter")
    splitter.moveSplitter(splitter.width() - 450, 1)
    wide = frame.session.widths["training"]
    assert abs(wide - 450) < 20
    frame.close()
    again = make_frame(Session(Workspace.open(station.folder)))
    qtbot.addWidget(again)
    again.resize(1280, 800)
    again.show()
    again.show_stage("training")
    qtbot.waitUntil(lambda: abs(again.page("training").parts.evidence.width() - wide) < 4, timeout=5_000)
    again.close()
    stored = json.loads((tmp_path / "state" / "attentive-lens" / "windows.json").read_text())
    stored[str(station.folder.absolute())]["widths"] = {"training": "wide"}
    (tmp_path / "state" / "attentive-lens" / "windows.json").write_text(json.dumps(stored))
    assert Session(Workspace.open(station.folder)).widths == {}


def test_runs_stand_at_the_left_with_their_curves_and_one_is_put_in_view(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    other = station.run(1).plan().changed({"training.epochs": 2})
    finish(execute(station, station.claim_run(other), lambda: False))
    frame = open_frame(station)
    stage(qtbot, frame, "training")
    runs = child(frame, RunsList, "runs list")
    assert [view.number for view in runs.views] == [2, 1]
    qtbot.mouseClick(runs, LEFT, pos=QPoint(20, ROW + 5))
    assert frame.session.runs.current == runs.current == 1
    qtbot.keyClick(runs, Qt.Key.Key_Up)
    assert frame.session.runs.current == 2
    view = frame.session.runs.views[2]
    accuracies = [epoch.validation.accuracy for epoch in view.epochs if epoch.validation is not None]
    curve = small_curve(view)
    assert curve.shape == (2, 2)
    assert curve[-1, 0] == 1
    assert (curve[0, 1] < curve[1, 1]) == (accuracies[0] < accuracies[1])
    assert curve.min() >= 0
    assert curve.max() <= 1
    assert view.best is not None
    assert view.best.validation is not None
    assert standing(view).startswith(f"{view.best.validation.accuracy * 100:.1f}")
    runs.grab()


def test_kernels_are_pictures_of_their_weights() -> None:
    kernel = np.zeros((3, 3, 3), np.float32)
    kernel[0, 1, 2], kernel[2, 2, 0] = 2.0, -2.0
    picture = kernel_picture(kernel, of_image=True)
    assert picture.shape == (3, 3, 3)
    assert picture[1, 1].tolist() == [127, 127, 127], "0 is grey"
    assert picture[0, 1].tolist() == [127, 127, 255]
    assert picture[2, 2].tolist() == [0, 127, 127]
    deep = np.random.default_rng(0).normal(size=(3, 3, 9)).astype(np.float32)
    deep[:, :, 4] *= 10
    assert strongest_inputs(deep, 3)[0] == 4
    look.use("light")
    drawn = kernel_picture(deep, of_image=False)
    assert drawn.shape == (3 * INPUTS + 1, 3 * INPUTS + 1, 3)
    strong = deep[:, :, 4]
    above, below = look.theme.colour("vermilion"), look.theme.colour("petrol")
    at = np.unravel_index(np.abs(strong).argmax(), strong.shape)
    colour = above if strong[at] > 0 else below
    assert np.abs(drawn[at].astype(int) - [colour.red(), colour.green(), colour.blue()]).max() <= 2


def test_the_kernels_of_a_layer_are_there_before_its_patches(qtbot: QtBot, shared: Frame, page: ExplainPage) -> None:
    from attentive_lens.window.explaining.filters import FiltersPanel

    click(qtbot, shared, "evidence layers")
    click(qtbot, shared, "view filters")
    rows = page.evidence.of(FiltersPanel).rows
    qtbot.waitUntil(lambda: rows.kernel is not None and rows.seen is not None, timeout=60_000)
    folder = str(shared.session.workspace.folder)
    assert np.array_equal(rows.kernel, answer(LayerNumbers(folder, 1, "convolution 1")).values)  # type: ignore[arg-type]
    assert "in the image's colours" in rows.words_at(QPoint(4, 30))
    assert "drawn to excite" in rows.words_at(QPoint(60, 30))
    assert "mean output by class" in rows.words_at(QPoint(rows._left(0) + 2, 30))
    page.evidence.of(FiltersPanel).forget()
    assert rows.kernel is None


@pytest.mark.parametrize(("key", "most"), [("explain", 24), ("results", 22), ("training", 26)])
def test_no_stage_shows_more_than_can_be_taken_in(qtbot: QtBot, shared: Frame, key: str, most: int) -> None:
    shared.resize(1280, 800)
    stage(qtbot, shared, key)
    page = shared.page(key)
    if isinstance(page, ExplainPage):
        page.evidence.open_group(0)
        qtbot.waitUntil(lambda: page.explanation is not None and page.explanation.complete, timeout=60_000)
    elif isinstance(page, TrainingPage):
        page.show_view("curves")
    if isinstance(page, ResultsPage):
        page.show_view("overview")
        page.chosen.decisions.show_images(())
    qtbot.wait(200)

    def seen() -> list[str]:
        return [each.objectName() for each in (*controls(page), *(controls(page.where) if page.where else []))]

    assert 10 < len(seen()) <= most, seen()
    if isinstance(page, ResultsPage):
        few = len(seen())
        page.chosen.decisions.show_images((0,))
        assert few < len(seen()) <= 24, seen()


def test_an_answer_s_bar_keeps_its_name(qtbot: QtBot, shared: Frame, page: ExplainPage) -> None:
    del page
    names = [bar.name for bar in child(shared, Bars, "answers").bars]
    assert sorted(names) == sorted(shared.session.runs.classes())
