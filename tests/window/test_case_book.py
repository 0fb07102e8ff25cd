"""From a mistake to a closed case: evidence pinned beside the lens, cause and note, the book, and a later run."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QComboBox, QLabel, QLineEdit, QPlainTextEdit, QPushButton, QSlider, QTableWidget
from pytestqt.qtbot import QtBot
from tests.driving import LEFT, child, click, stage

from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.inspecting import Neighbours, TryChanges
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.formats.reading import read_model
from attentive_lens.window.bench.bench import Bench
from attentive_lens.window.explaining.alike import AlikePanel
from attentive_lens.window.explaining.book import CaseBookView
from attentive_lens.window.explaining.change import ChangePanel
from attentive_lens.window.explaining.channel_rows import ChannelRows
from attentive_lens.window.explaining.place_box import PlaceBox
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.parts.bars import Bars
from attentive_lens.window.parts.basics import OneLine
from attentive_lens.window.parts.sheet import ContactSheet
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.cases import read_cases

OpenFrame = Callable[[Workspace], Frame]


@pytest.fixture
def frame(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> Frame:
    """The window with the surest mistake under the lens."""
    window = open_frame(station)
    qtbot.waitUntil(lambda: bool(window.session.scores.mistakes()), timeout=30_000)
    stage(qtbot, window, "explain")
    page = explain(window)
    qtbot.waitUntil(lambda: page.explanation is not None, timeout=30_000)
    return window


def explain(frame: Frame) -> ExplainPage:
    page = frame.page("explain")
    assert isinstance(page, ExplainPage)
    return page


def test_a_mistake_becomes_a_case_that_later_runs_try_again(qtbot: QtBot, frame: Frame, station: Workspace) -> None:
    page, cases = explain(frame), frame.session.cases
    shown = page.explanation
    assert shown is not None
    assert shown.image is not None
    qtbot.keyClick(page, Qt.Key.Key_C)
    (case,) = cases.book.cases
    assert (case.image, case.predicted, case.true, case.run) == (shown.image, shown.predicted, shown.true, 1)
    click(qtbot, frame, "pin map")
    assert cases.book.cases[0].evidence[0].settings == shown.method.write_kind()
    cause = child(frame, QComboBox, "case cause")
    cause.setCurrentText("a thumb on the glass")
    qtbot.keyClick(cause, Qt.Key.Key_Return)
    note = child(frame, QPlainTextEdit, "case note")
    note.setFocus()
    qtbot.keyClicks(note, "seen before")
    child(frame, QLineEdit, "case remedy").setText("masked")
    qtbot.waitUntil(lambda: cases.book.cases[0].note == "seen before", timeout=10_000)
    summary = read_cases(station.folder).cases[0]
    assert (summary.cause, summary.remedy) == ("a thumb on the glass", "masked")
    click(qtbot, frame, "unpin 0")
    assert cases.book.cases[0].evidence == ()
    qtbot.keyClick(frame, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert len(cases.book.cases[0].evidence) == 1
    click(qtbot, frame, "close case")
    assert child(frame, QLabel, "case title").text() == "Case 1 · closed · of run 1"
    changed = station.run(1).plan().changed({"optimiser.learning_rate": 0.005})
    finish(execute(station, station.claim_run(changed), lambda: False))
    click(qtbot, frame, "case book")
    table, view = child(frame, QTableWidget, "cases table"), child(frame, CaseBookView, "case book view")
    frame.session.tick()
    qtbot.waitUntil(lambda: view.result is not None and len(view.result.cases[0].answers) == 2, timeout=30_000)
    assert view.result is not None
    (row,) = view.result.cases
    assert table.rowCount() == 1
    assert table.item(0, 5).text() == row.status
    assert table.item(0, 6).text().split() == [f"{'●' if a.right else '○'}{a.run}" for a in row.answers]
    assert child(frame, OneLine, "case status").text() == f"{row.status}: {row.words}"
    assert [bar.name for bar in child(frame, Bars, "cases by cause").bars] == ["a thumb on the glass"]
    page.open_image(frame.session.scores.mistakes()[1])
    qtbot.waitUntil(lambda: page.explanation is not None and page.explanation.image != shown.image, timeout=30_000)
    assert child(frame, QPushButton, "open case").isVisible()
    click(qtbot, frame, "case book")
    table.selectRow(0)
    qtbot.keyClick(view, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: page.image == shown.image, timeout=30_000)
    assert page.centre.currentIndex() == 0


def test_a_change_is_tried_where_it_is_dragged_and_pinned(qtbot: QtBot, frame: Frame, station: Workspace) -> None:
    page = explain(frame)
    click(qtbot, frame, "evidence change")
    panel = page.evidence.of(ChangePanel)
    assert isinstance(panel, ChangePanel)
    box = child(frame, PlaceBox, "changed picture")
    child(frame, QSlider, "knob 0").setValue(60)
    qtbot.mouseClick(box, LEFT, pos=QPoint(box.width() // 4, box.height() // 2))
    change = panel.change()
    assert (change.kind, change.column, change.row) == ("cover", 0.25, 0.5)
    qtbot.waitUntil(lambda: panel.tried is not None and panel.tried.after[0].change == change, timeout=30_000)
    assert page.image is not None
    wanted = finish(carry_out(TryChanges(RunImage(str(station.folder), 1, page.image), (change,), smallest=False)))
    assert panel.tried is not None
    assert panel.tried.after[0].probabilities == wanted.after[0].probabilities
    assert np.array_equal(panel.tried.pixels, wanted.pixels)
    shown = {bar.name: bar.figure for bar in child(frame, Bars, "change bars").bars}
    for name, figure in shown.items():
        after, before = wanted.after[0].probabilities[name], wanted.before.probabilities[name]
        assert figure == f"{after:.2f}  ({before:.2f})"
    click(qtbot, frame, "pin change")
    assert frame.session.cases.book.cases[0].evidence[0].settings == change.write_kind()
    ways = child(frame, QComboBox, "change")
    for place in range(ways.count()):
        ways.setCurrentIndex(place)
        name = str(ways.currentData())
        qtbot.waitUntil(
            lambda name=name: panel.tried is not None and panel.tried.after[0].change.kind == name,  # type: ignore[misc]
            timeout=30_000,
        )
    click(qtbot, frame, "smallest cover")
    says = child(frame, QLabel, "change says")
    qtbot.waitUntil(lambda: "cover (" in says.text() or "No square" in says.text(), timeout=60_000)


def test_neighbours_are_found_and_a_wrong_label_is_one_key_away(qtbot: QtBot, frame: Frame, station: Workspace) -> None:
    page = explain(frame)
    click(qtbot, frame, "evidence alike")
    sheet = child(frame, ContactSheet, "neighbours sheet")
    qtbot.waitUntil(lambda: bool(sheet.groups), timeout=30_000)
    assert page.image is not None
    result = finish(carry_out(Neighbours(RunImage(str(station.folder), 1, page.image), "", 12)))
    assert [group.title for group in sheet.groups] == [
        f"said: {result.classes['predicted']}",
        f"true: {result.classes['true']}",
    ]
    for group, key in zip(sheet.groups, ("predicted", "true"), strict=True):
        assert [place + 1 for place in group.places] == [each.image for each in result.near[key]]
        assert group.captions[0].startswith(f"{result.near[key][0].distance:.2f}")
    place = sheet.groups[0].places[0]
    sheet.select(place)
    before = frame.session.images.collection.rows[place].label
    page.evidence.of(AlikePanel).decisions.relabel((before + 1) % 6)
    assert frame.session.images.collection.rows[place].label != before
    now = frame.session.images.collection.classes[(before + 1) % 6]
    assert sheet.groups[0].captions[0].endswith(now)
    click(qtbot, frame, "pin neighbours")
    assert frame.session.cases.book.cases[0].evidence[0].kind == "neighbours"
    sheet.opened.emit(place)
    qtbot.waitUntil(lambda: page.image == place + 1, timeout=30_000)


def test_filters_of_any_layer_lead_to_their_images_and_the_evidence_is_widened(qtbot: QtBot, frame: Frame) -> None:
    page = explain(frame)
    click(qtbot, frame, "evidence layers")
    click(qtbot, frame, "view filters")
    bench, rows = child(frame, Bench, "explain bench"), child(frame, ChannelRows, "channel rows")
    bench.choose(next(k for k, plate in enumerate(bench.plates) if plate.name == "convolution 2"))
    qtbot.waitUntil(lambda: rows.seen is not None and rows.kernel is not None, timeout=60_000)
    seen = rows.seen
    assert seen is not None
    assert seen.layer == "relu 2"
    kernel = read_model(frame.session.workspace.run(1).model).weights["convolution 2"]["kernel"]
    assert np.array_equal(rows.kernel, kernel)
    assert len(rows.drawn) == kernel.shape[-1] == len(rows.order)
    assert len(rows.order) == seen.patches.shape[0]
    order = child(frame, QComboBox, "filters order")
    order.setCurrentIndex(2)
    order.activated.emit(2)
    number = seen.classes.index(order.currentText())
    assert rows.order[0] == int(seen.speaks[number].argmax())
    was = page.evidence.width()
    qtbot.keyClick(page, Qt.Key.Key_F)
    assert not page.twins.isVisible()
    qtbot.waitUntil(lambda: page.evidence.width() > was, timeout=5_000)
    frame.grab()
    qtbot.mouseClick(rows, LEFT, pos=QPoint(rows._left(0) + 4, 30))
    qtbot.waitUntil(lambda: page.image == seen.images[rows.order[0]][0], timeout=30_000)
    click(qtbot, frame, "explain evidence alone")
    assert page.twins.isVisible()
    qtbot.mouseClick(rows, LEFT, pos=QPoint(4, 30))
    assert page.walked == list(dict.fromkeys(seen.images[rows.order[0]]))
    page.walk_through([])


def test_a_note_that_is_being_typed_is_not_written_over(qtbot: QtBot, frame: Frame) -> None:
    qtbot.keyClick(explain(frame), Qt.Key.Key_C)
    note = child(frame, QPlainTextEdit, "case note")
    qtbot.keyClicks(note, "a thumb")
    book = frame.session.cases
    book.change(replace(book.book.cases[0], remedy="wipe it"), "a remedy from elsewhere")  # all of it is shown anew
    assert note.toPlainText() == "a thumb"
    qtbot.waitUntil(lambda: book.book.cases[0].note == "a thumb", timeout=10_000)


def test_the_next_mistake_is_explained_ahead_and_no_other(qtbot: QtBot, frame: Frame) -> None:
    page, mistakes = explain(frame), frame.session.scores.mistakes()
    page.open_image(mistakes[0])
    following = page._request(1, mistakes[1])
    qtbot.waitUntil(lambda: page.ahead.known(following) is not None, timeout=60_000)
    assert page.ahead.known(page._request(1, mistakes[2 % len(mistakes)])) is None or len(mistakes) == 2
    ahead = page.ahead.known(following)
    click(qtbot, frame, "next mistake")
    assert page.explanation is ahead, "it is there at once"
    assert page.explanation is not None
    assert page.explanation.image == mistakes[1]
