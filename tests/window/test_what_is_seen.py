"""Names that stay apart, a matrix of any size, images that a split moves, the strip below, and a second window."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent, QHelpEvent, QMouseEvent, QWheelEvent
from PyQt6.QtWidgets import QLabel, QPushButton, QToolTip
from pytestqt.qtbot import QtBot

from attentive_lens.desk.cards import Card
from attentive_lens.window import look, words
from attentive_lens.window.application import _log_faults, open_folder
from attentive_lens.window.frame import Frame
from attentive_lens.window.images.sets import SetBars
from attentive_lens.window.pages.images import ImagesPage
from attentive_lens.window.parts.basics import filter_button, view_button
from attentive_lens.window.parts.loop import STEPS, Loop
from attentive_lens.window.parts.matrix import ConfusionMatrix
from attentive_lens.window.parts.workspace_card import WorkspaceCard
from attentive_lens.window.session import Session
from attentive_lens.window.welcome import Welcome
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]
NONE = Qt.KeyboardModifier.NoModifier
CONTROL = Qt.KeyboardModifier.ControlModifier


def letters(text: str) -> float:
    return float(len(text))


def test_a_name_that_is_too_long_keeps_what_tells_it_from_the_others() -> None:
    names = ["pollen of the alder tree", "pollen of the elder tree", "spore"]
    result = words.shortened(names, 10, letters)
    assert result[2] == "spore"
    assert len(set(result)) == 3
    assert result[:2] == ["…the alde…", "…the elde…"]
    ends = words.shortened([f"convolution {k}" for k in range(1, 13)], 10, letters)
    assert [own.strip("…") for own in ends] == [str(k) for k in range(1, 13)]
    begins = words.shortened(["north slope sample", "south slope sample"], 9, letters)
    assert [own[0] for own in begins] == ["n", "s"]
    assert words.shortened(names, 99, letters) == names
    assert words.shortened([], 9, letters) == []


def test_what_all_names_share_is_left_out_and_what_tells_them_apart_is_kept() -> None:
    names = [
        f"grains of the {colour} kind number {k} photographed under diffuse light"
        for colour in ("teal", "ochre", "rose")
        for k in range(12)
    ]
    assert words.shortened(names, 24, letters)[:2] == ["…teal kind number 0…", "…teal kind number 1…"]
    narrow = words.shortened(names, 13, letters)
    assert len(set(narrow)) == len(names)
    assert all(len(each) <= 13 for each in narrow)
    for name, shown in zip(names, narrow, strict=True):
        assert shown[:2] == name.split(" ")[3][:2]
        assert shown.endswith(name.split(" ")[6][-1])
    assert words.shortened([names[5]], 24, letters, names) == ["…teal kind number 5…"]
    assert words.shortened([names[5]], 99, letters, names) == [names[5]]


@given(st.lists(st.text("ab ", min_size=1, max_size=14), max_size=6), st.integers(3, 16))
def test_shortened_names_fit_and_show_a_part_of_the_name(names: list[str], width: int) -> None:
    for name, shown in zip(names, words.shortened(names, width, letters), strict=True):
        assert len(shown) <= width
        at = 0
        for part in shown.split("…"):
            assert part in name[at:], "parts of the name, in their order"
            at = name.index(part, at) + len(part)
        if len(name) <= width:
            assert shown == name


@given(st.lists(st.integers(0, 10**6), min_size=2, max_size=8, unique=True))
def test_names_that_differ_in_a_number_look_different(numbers: list[int]) -> None:
    names = [f"a class with number {k:07} of many" for k in numbers]
    assert len(set(words.shortened(names, 11, letters))) == len(numbers)


def test_some_names_are_told_apart_among_all() -> None:
    everything = [f"layer {k} of the long network" for k in range(30)]
    (one,) = words.shortened([everything[7]], 12, letters, everything)
    assert "7" in one


def test_sizes_and_counts_read_as_people_write_them() -> None:
    assert words.memory_size(245_000_000) == "245\u202fMB"
    assert words.memory_size(24_800_000_000) == "24.8\u202fGB"
    assert words.counted(1, "run", "runs") == "1 run"
    assert words.counted(0, "run", "runs") == "0 runs"
    assert words.counted(1800, "image", "images") == "1\u202f800 images"
    for output in ("softmax", "sigmoid", "one sigmoid", "none"):
        assert words.answer_tip(output).endswith(".")


def shown_matrix(qtbot: QtBot, classes: int, side: int = 640) -> ConfusionMatrix:
    matrix = ConfusionMatrix()
    qtbot.addWidget(matrix)
    matrix.resize(side, side)
    random = np.random.default_rng(classes)
    counts = random.poisson(0.1, (classes, classes)) + np.diag(random.integers(1, 9, classes))
    matrix.show_counts([f"grains of the family {k}" for k in range(classes)], counts)
    matrix.show()
    return matrix


@pytest.mark.parametrize("classes", [2, 5, 12, 40, 100, 300])
def test_a_matrix_fits_its_card_and_every_cell_is_found_where_it_is(qtbot: QtBot, classes: int) -> None:
    matrix = shown_matrix(qtbot, classes)
    port = matrix.viewport()
    assert port is not None
    last = matrix.box(classes - 1, classes - 1)
    assert last.right() <= port.width()
    assert last.bottom() <= port.height()
    wanted = 0.5 if classes > 5 else 0.3
    assert last.bottom() > wanted * port.height(), "the card is used"
    for true, predicted in ((0, 0), (classes - 1, 0), (classes // 2, classes // 2)):
        cell = matrix.box(true, predicted)
        if min(cell.width(), cell.height()) >= 1.5:
            assert matrix.cell_at(cell.center().toPoint()) == (true, predicted)
    assert matrix.cell_at(QPoint(2, 2)) is None
    assert matrix.cell_at(QPoint(port.width() - 2, port.height() // 2)) is None


def test_the_names_of_the_cell_under_the_mouse_stand_out_at_the_edges(qtbot: QtBot) -> None:
    matrix = shown_matrix(qtbot, 100)
    plain = matrix.grab().toImage()
    centre = matrix.box(33, 71).center()
    button = Qt.MouseButton.NoButton
    matrix.mouseMoveEvent(QMouseEvent(QMouseEvent.Type.MouseMove, centre, centre, button, button, NONE))
    over = matrix.over
    assert over is not None
    assert abs(over[0] - 33) <= 1
    assert abs(over[1] - 71) <= 1
    assert matrix.grab().toImage() != plain
    point = centre.toPoint()
    matrix.viewportEvent(QHelpEvent(QHelpEvent.Type.ToolTip, point, matrix.mapToGlobal(point)))
    assert f"grains of the family {over[0]}" in QToolTip.text()
    matrix.leaveEvent(None)
    assert matrix.grab().toImage() == plain


def wheel(matrix: ConfusionMatrix, at: QPointF, turns: int, held: Qt.KeyboardModifier) -> None:
    matrix.wheelEvent(
        QWheelEvent(
            at, at, QPoint(), QPoint(0, 120 * turns), Qt.MouseButton.NoButton, held, Qt.ScrollPhase.NoScrollPhase, False
        )
    )


def test_zooming_keeps_the_cell_under_the_mouse_and_stops_at_its_limits(qtbot: QtBot) -> None:
    matrix = shown_matrix(qtbot, 60)
    at = matrix.box(30, 40).center()
    for _ in range(3):
        wheel(matrix, at, 1, CONTROL)
    assert matrix.zoom > 1.5
    cell = matrix.cell_at(at.toPoint())
    assert cell is not None
    assert abs(cell[0] - 30) <= 1
    assert abs(cell[1] - 40) <= 1
    for _ in range(40):
        wheel(matrix, at, 1, CONTROL)
    assert matrix.box(0, 0).width() <= 61
    for _ in range(60):
        wheel(matrix, at, -1, CONTROL)
    assert matrix.zoom == 1
    wheel(matrix, at, 1, NONE)
    assert matrix.zoom == 1


def test_the_arrows_bring_a_cell_into_sight_when_zoomed(qtbot: QtBot) -> None:
    matrix = shown_matrix(qtbot, 60)
    matrix.choose(0, 0)
    for _ in range(12):
        qtbot.keyClick(matrix, Qt.Key.Key_Plus)
    port = matrix.viewport()
    assert port is not None
    for _ in range(59):
        qtbot.keyClick(matrix, Qt.Key.Key_Right)
        qtbot.keyClick(matrix, Qt.Key.Key_Down)
    assert matrix.current == (59, 59)
    assert port.rect().contains(matrix.box(59, 59).center().toPoint())
    matrix.grab()
    matrix.show_counts(["a", "b"], np.array([[3, 1], [0, 2]]))
    assert matrix.current is None
    assert matrix.zoom == 1


def test_view_filter_and_action_look_different(qtbot: QtBot) -> None:
    made = [
        view_button("word", "one", "", lambda: None),
        filter_button("word", "two", "", lambda: None),
        QPushButton("word"),
    ]
    made[2].setProperty("role", "main")
    pictures = []
    for one in made:
        qtbot.addWidget(one)
        one.setFont(look.font())
        one.setFixedSize(90, 30)
        one.setChecked(True)
        one.show()
        pictures.append(one.grab().toImage())
    assert pictures[0] != pictures[1] != pictures[2] != pictures[0]
    middle = [picture.pixelColor(8, 15).name() for picture in pictures]
    assert len(set(middle)) == 3


def test_a_split_shows_the_images_that_it_moves_first(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> None:
    frame = open_frame(station)
    frame.show_stage("images")
    page = frame.page("images")
    assert isinstance(page, ImagesPage)
    page.show_view("sets")
    bars = frame.findChild(SetBars, "set bars")
    predicted = frame.findChild(QLabel, "moved images")
    assert bars is not None
    assert predicted is not None
    assert bars.moved == frozenset()
    design, images = frame.session.design, frame.session.images
    before = list(images.collection.sets)
    design.change_split(design.plan.split.with_(validation_fraction=0.5))
    moved = {k for k, (was, now) in enumerate(zip(before, images.collection.sets, strict=True)) if was != now}
    assert bars.moved == moved
    assert moved
    assert str(len(moved)) in predicted.text()
    for class_number in range(len(images.collection.classes)):
        shown = bars.shown(class_number)
        assert all(images.collection.sets[k] == "validation" for k in shown)
        assert all(images.collection.rows[k].label == class_number for k in shown)
        order = [k in moved for k in shown]
        assert order == sorted(order, reverse=True)
    first = bars.shown(1)[0]
    point = bars._box(1, 0).center().toPoint()
    assert bars.place_at(point) == first
    bars.event(QHelpEvent(QHelpEvent.Type.ToolTip, point, bars.mapToGlobal(point)))
    assert images.collection.rows[first].name in QToolTip.text()
    bars.grab()
    design.change(design.plan.changed({"training.epochs": 3}))
    assert bars.moved == moved


def text(frame: Frame, name: str) -> str:
    result = frame.findChild(QLabel, name)
    assert result is not None, name
    return result.text()


def test_the_strip_below_says_what_is_open_and_what_it_takes(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    assert text(frame, "message") == f"Opened {station.name}: 90 images of 6 classes, 1 run."
    assert "in use" in text(frame, "memory")
    assert "free" in text(frame, "memory")
    frame.session.images.decide("two images flagged", [1, 2], lambda own: own)
    assert text(frame, "message") == "Done: two images flagged."
    undo = frame.findChild(QPushButton, "undo")
    assert undo is not None
    assert not undo.isVisible(), "nothing was changed"


def test_a_second_window_on_a_workspace_says_so_and_only_reads(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    first = open_frame(station)
    second = open_frame(station)
    assert not first.session.reading_only
    assert second.session.reading_only
    assert "reading only" in second.windowTitle()
    assert "Another window" in text(second, "message")
    before = second.session.images.collection.rows[3].label
    second.session.images.relabel("another", [4], (before + 1) % 6)
    assert "another window" in text(second, "message")
    assert second.session.images.collection.rows[3].label == before
    assert station.catalogue.corrections() == {}
    second.session.start()
    assert "Nothing can be trained here" in text(second, "message")
    assert [run.number for run in station.runs()] == [1]
    first.session.images.relabel("another", [4], (before + 1) % 6)
    assert station.catalogue.corrections()[4].label == (before + 1) % 6
    first.close()
    third = open_frame(station)
    assert not third.session.reading_only


def test_a_fault_of_the_program_is_a_sentence_and_the_window_stays(
    qtbot: QtBot,
    open_frame: OpenFrame,
    station: Workspace,
    monkeypatch: pytest.MonkeyPatch,
    tmp_path: Path,
    capsys: pytest.CaptureFixture[str],
) -> None:
    frame = open_frame(station)
    (tmp_path / "state").write_text("no folder")
    for state, part in (("state", "written to the terminal"), ("other", "faults.log")):
        monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / state))
        monkeypatch.setattr(sys, "excepthook", sys.__excepthook__)
        _log_faults()
        sys.excepthook(ZeroDivisionError, ZeroDivisionError("a bug"), None)
        assert "The program has a fault" in text(frame, "message")
        assert part in text(frame, "message")
        assert "The program has a fault" in capsys.readouterr().err
    assert frame.isVisible()


def dropped(widget: Welcome | Frame, place: Path) -> None:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(place))])
    event = QDropEvent(QPointF(5, 5), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, NONE)
    widget.dropEvent(event)


def test_a_workspace_dropped_on_a_window_opens_in_one_of_its_own(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, tmp_path: Path
) -> None:
    frame = open_frame(station)
    dropped(frame, station.folder)
    assert frame.other is frame, "it is open already"
    shutil.copytree(station.folder, tmp_path / "copy")
    dropped(frame, tmp_path / "copy")
    other = frame.other
    assert isinstance(other, Frame)
    assert other.session.workspace.folder == tmp_path / "copy"
    other.close()
    (tmp_path / "broken").mkdir()
    (tmp_path / "broken" / "workspace.toml").write_text("format = 99\n")
    dropped(frame, tmp_path / "broken")
    assert "format 99" in text(frame, "message")


def test_the_first_page_shows_the_loop_and_a_card_for_each_workspace(
    qtbot: QtBot, station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    empty = Welcome(open_folder)
    qtbot.addWidget(empty)
    empty.show()
    loop = empty.findChild(Loop, "loop")
    assert loop is not None
    assert all(word in loop.accessibleName() for word, *_ in STEPS)
    assert empty.demo.property("role") == "main"
    assert empty.findChildren(WorkspaceCard) == []
    empty.grab()
    frame = open_folder(station.folder)
    qtbot.addWidget(frame)
    frame.close()
    (station.folder / "catalogue.sqlite").rename(tmp_path / "away.sqlite")
    again = Welcome(open_folder)
    qtbot.addWidget(again)
    again.show()
    qtbot.waitUntil(lambda: len(again.findChildren(WorkspaceCard)) == 1, timeout=5000)
    (card,) = again.findChildren(WorkspaceCard)
    assert "cannot be read" in card.accessibleName()
    again.grab()
    card.click()
    message = again.findChild(QLabel, "welcome message")
    assert message is not None
    assert "could not be used" in message.text()
    assert again.isVisible()


def test_a_card_says_what_goes_on_in_its_workspace(qtbot: QtBot) -> None:
    pictures = np.zeros((3, 16, 16, 1), np.uint8)
    grounds = []
    for training, opened in ((False, False), (True, False), (False, True)):
        card = WorkspaceCard(Card(Path("/a/b"), "b", 1234, 1, 2, 0.913, training, opened, pictures))
        qtbot.addWidget(card)
        card.show()
        grounds.append(card.grab().toImage())
        assert "1\u202f234 images of 1 class" in card.accessibleName()
        assert "2 runs · best 91.3\u202f%" in card.accessibleName()
    assert grounds[0] != grounds[1]
    assert grounds[0] != grounds[2]
    assert grounds[1] != grounds[2]
    new = WorkspaceCard(Card(Path("/a/b"), "b", 3, 2, 0, None, False, False, pictures[:0]))
    qtbot.addWidget(new)
    assert "no run yet" in new.accessibleName()


def test_nothing_of_a_session_is_left_when_it_closes(qtbot: QtBot, station: Workspace) -> None:
    session = Session(station)
    session.start_worker()
    session.close()
    again = Session(station)
    assert not again.reading_only
    again.close()
