"""What is done with care: motion, pointers, what stands where there is nothing yet, decisions under the lens."""

from __future__ import annotations

import ast
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QImage, QKeySequence, QShortcut
from PyQt6.QtWidgets import QPushButton, QWidget
from pytestqt.qtbot import QtBot
from tests.driving import LEFT, child, click, stage

import attentive_lens.window
from attentive_lens.core.numbering import place_of
from attentive_lens.desk.requests.explaining import Completeness
from attentive_lens.window import look
from attentive_lens.window.explaining.book import CaseBookView
from attentive_lens.window.explaining.trust import OFF, first_figures
from attentive_lens.window.frame import Frame
from attentive_lens.window.network.verbs import VERBS
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.parts.bars import Bar, Bars
from attentive_lens.window.parts.empty import DRAWINGS, SIZE, Drawing, EmptyState
from attentive_lens.window.parts.lens import FADE_MS, Lens
from attentive_lens.window.parts.pointing import ARROW, PRESS, READ, points, rows
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]


def square(value: int) -> QImage:
    picture = QImage(8, 8, QImage.Format.Format_RGB888)
    picture.fill(value)
    return picture


def test_a_map_that_is_another_comes_over_the_image_and_then_is_all_there(
    qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    lens = Lens("lens")
    qtbot.addWidget(lens)
    lens.resize(200, 200)
    lens.show_image(square(200), square(50))
    assert lens.here == 1, "nobody saw it come"
    lens.show()
    lens.show_image(square(200), square(50))
    assert lens.here == 1, "the same map does not come again"
    lens.show_image(square(200), square(90))
    assert lens.here < 0.5
    qtbot.waitUntil(lambda: lens.here == 1, timeout=20 * FADE_MS)
    whole = lens.grab().toImage()
    monkeypatch.setattr(look, "moves", lambda _: False)
    lens.show_image(square(200), square(50))
    assert lens.here == 1, "nothing moves where the desktop does not want it"
    assert lens.grab().toImage() != whole


def test_the_pointer_says_where_a_press_does_something(qtbot: QtBot) -> None:
    one = QWidget()
    qtbot.addWidget(one)
    one.resize(100, 100)
    points(one, lambda at: at.x() < 50)
    one.show()
    for x, shape in ((10, PRESS), (80, ARROW), (49, PRESS)):
        qtbot.mouseMove(one, QPoint(x, 20))
        assert one.cursor().shape() == shape
    count = [3]
    over = rows(lambda: count[0], 20, 10)
    assert [over(QPoint(0, y)) for y in (9, 10, 69, 70)] == [False, True, True, False]
    count[0] = 0
    assert not over(QPoint(0, 10))


def test_answers_that_nobody_can_choose_do_not_ask_to_be_pressed(qtbot: QtBot) -> None:
    bars = Bars("bars")
    qtbot.addWidget(bars)
    bars.show_bars((Bar("one", 0.5, "0.50", "petrol"),))
    bars.show()
    qtbot.mouseMove(bars, QPoint(20, 8))
    assert bars.cursor().shape() == ARROW
    bars.chosen.connect(lambda _: None)
    qtbot.mouseMove(bars, QPoint(21, 8))
    assert bars.cursor().shape() == PRESS


def test_whatever_draws_itself_and_is_pressed_has_a_pointer() -> None:
    folder = Path(attentive_lens.window.__file__).parent
    silent, pressed = [], 0
    for file in sorted(folder.rglob("*.py")):
        tree = ast.parse(file.read_text("utf-8"))
        for kind in (node for node in ast.walk(tree) if isinstance(node, ast.ClassDef)):
            if any(isinstance(f, ast.FunctionDef) and f.name == "mousePressEvent" for f in kind.body):
                pressed += 1
                names = {n.id for n in ast.walk(kind) if isinstance(n, ast.Name)}
                names |= {n.attr for n in ast.walk(kind) if isinstance(n, ast.Attribute)}
                if not names & {"points", "setCursor"}:
                    silent.append(f"{file.name}: {kind.name}")
    assert pressed > 15
    assert not silent, silent


@pytest.mark.parametrize("name", DRAWINGS)
def test_what_is_not_there_yet_is_drawn(qtbot: QtBot, name: str) -> None:
    state = EmptyState(name, "Nothing yet", "Do something.", "Do it", "do it")
    qtbot.addWidget(state)
    state.resize(600, 500)
    state.show()
    drawing = child(state, Drawing, f"drawing of {name}")
    picture = drawing.grab().toImage()
    across, down = [], []
    ground = picture.pixel(SIZE.width() - 1, SIZE.height() - 1)
    for x in range(SIZE.width()):
        for y in range(SIZE.height()):
            if picture.pixel(x, y) != ground:
                across.append(x)
                down.append(y)
    assert len(across) > 800
    assert max(across) - min(across) > SIZE.width() / 3
    assert max(down) - min(down) > SIZE.height() / 2
    assert child(state, QPushButton, "do it").isVisible()


def test_a_book_without_a_case_says_what_a_case_is(qtbot: QtBot, shared: Frame, page: ExplainPage) -> None:
    page.show_view("case book")
    book = child(shared, CaseBookView, "case book view")
    qtbot.waitUntil(book.isVisible, timeout=5_000)
    assert child(book, Drawing, "drawing of cases").isVisible()
    assert not book.table.isVisible()
    book.left.emit()


def test_sums_that_are_right_take_no_room_on_the_map(qtbot: QtBot, page: ExplainPage) -> None:
    qtbot.waitUntil(lambda: page.explanation is not None and page.explanation.complete, timeout=60_000)
    assert page.explanation is not None
    map_ = page.explanation.maps[0]
    for error, names in ((OFF, ["gain"]), (OFF + 0.01, ["gain", "sum"])):
        sums = Completeness(4.0, 4.0 * (1 + error), 9.0, error)
        figures = first_figures(replace(map_, trust=replace(map_.trust, completeness=sums)))
        assert [figure.name for figure in figures] == names
        assert f"parts add up to {sums.sum:.2f} of {sums.expected:.2f}" in figures[-1].sentence


def test_the_image_under_the_lens_is_decided_about_where_it_is(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "explain")
    page = frame.page("explain")
    assert isinstance(page, ExplainPage)
    qtbot.waitUntil(lambda: page.explanation is not None, timeout=60_000)
    assert page.image is not None
    rows_, place = frame.session.images, place_of(page.image)
    lens = page.twins.lenses["predicted"]
    before = rows_.collection.sets[place]
    flag, out = child(frame, QPushButton, "flag of explained"), child(frame, QPushButton, "exclude of explained")
    assert not flag.isVisible()
    lens.setFocus()
    qtbot.keyClick(lens, Qt.Key.Key_F)
    assert rows_.collection.rows[place].flagged
    assert flag.isVisible()
    assert flag.text() == "Unflag (F)"
    qtbot.keyClick(lens, Qt.Key.Key_X)
    assert rows_.collection.sets[place] == "excluded"
    assert out.text() == "Use (X)"
    qtbot.keyClick(lens, Qt.Key.Key_X)
    assert rows_.collection.sets[place] == before
    click(qtbot, frame, "decide about explained")
    assert not flag.isVisible()
    page.setFocus()
    wide = page.parts.is_alone
    qtbot.keyClick(page, Qt.Key.Key_F)
    assert page.parts.is_alone != wide
    assert rows_.collection.rows[place].flagged, "the key was the column's here"


def test_over_the_pair_the_pointer_is_a_cross_and_a_press_takes_the_lens_there(qtbot: QtBot, page: ExplainPage) -> None:
    lens = page.twins.lenses["predicted"]
    qtbot.mouseMove(lens, QPoint(20, 20))
    assert lens.cursor().shape() == READ
    qtbot.mouseMove(lens, QPoint(5, round(lens.area().height()) + 2))
    assert lens.height() <= lens.area().height() or lens.cursor().shape() == ARROW
    qtbot.mouseClick(lens, LEFT, pos=QPoint(30, 30))
    assert np.allclose([lens.across, lens.below], 30 / lens.area().width(), atol=0.01)


def test_no_key_of_the_window_is_one_of_the_bench_s(shared: Frame) -> None:
    taken = {each.key().toString() for each in shared.findChildren(QShortcut)}
    ours = {QKeySequence(int(key) | modifiers.value).toString() for verb in VERBS for key, modifiers in verb.keys}
    assert {"Alt+Left", "Ctrl+1"} <= taken
    assert {"Ctrl+Left", "Ctrl+Shift+Right", "F"} <= ours
    assert not taken & ours
