"""The whole loop by the window's own events: a branch, a run, a mistake, its cause, a new run, and all taken back."""

from __future__ import annotations

import logging
from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QLineEdit, QPushButton, QSpinBox
from pytestqt.qtbot import QtBot
from tests.driving import LEFT, child, click, enter, stage

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_demo
from attentive_lens.window.explaining.causes import CausesPanel
from attentive_lens.window.frame import Frame
from attentive_lens.window.network.chooser import StarterCard
from attentive_lens.window.network.editable_bench import EditableBench
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.parts.matrix import ConfusionMatrix
from attentive_lens.window.parts.sheet import ContactSheet
from attentive_lens.workspace import Workspace

Key, CONTROL = Qt.Key, Qt.KeyboardModifier.ControlModifier


def draw_a_branch(qtbot: QtBot, frame: Frame) -> None:
    bench = child(frame, EditableBench, "bench")
    bench.choose([plate.name for plate in bench.plates].index("max pooling 1"))
    bench.setFocus()
    qtbot.keyClick(bench, Key.Key_A)
    line = child(frame, QLineEdit, "part search line")
    qtbot.keyClicks(line, "branches")
    qtbot.keyClick(line, Key.Key_Return)
    assert frame.session.design.sound
    assert any(len(node.after) > 1 for node in frame.session.design.nodes), "two ways come together"


def train(qtbot: QtBot, frame: Frame, run: int) -> None:
    click(qtbot, frame, "main action")
    qtbot.waitUntil(lambda: frame.session.runs.current == run, timeout=30_000)
    qtbot.waitUntil(lambda: frame.session.runs.training is None, timeout=180_000)
    view = frame.session.runs.view
    assert view is not None
    assert (view.state, len(view.epochs)) == ("done", 5), view.error


def choose_a_mistake(qtbot: QtBot, frame: Frame) -> int:
    """By the fullest wrong cell of the matrix; the number of the image."""
    click(qtbot, frame, "matrix of scores")
    matrix = child(frame, ConfusionMatrix, "confusion matrix")
    wrong = [(t, s) for t in range(6) for s in range(6) if t != s]
    cell = max(wrong, key=lambda each: matrix.counts[each[0]][each[1]])
    qtbot.mouseClick(matrix.viewport(), LEFT, pos=matrix.box(*cell).center().toPoint())
    sheet = child(frame, ContactSheet, "cell images")
    assert sum(len(group.places) for group in sheet.groups) == matrix.counts[cell[0]][cell[1]] > 0
    qtbot.mouseClick(sheet.viewport(), LEFT, pos=QPoint(20, 60))
    click(qtbot, frame, "main action")
    page = frame.page("explain")
    assert isinstance(page, ExplainPage)
    qtbot.waitUntil(lambda: page.explanation is not None, timeout=30_000)
    assert page.image is not None
    return page.image


def test_from_a_branch_to_a_mended_case_and_back_to_the_beginning(
    qtbot: QtBot,
    open_frame: Callable[[Workspace], Frame],
    tmp_path: Path,
    caplog: pytest.LogCaptureFixture,
) -> None:
    frame = open_frame(finish(make_demo(tmp_path / "pollen", 240, 3)).workspace)
    session = frame.session
    begun = session.design.drawn
    stage(qtbot, frame, "network")
    click(qtbot, frame, "choose starter")
    qtbot.mouseClick(child(frame, StarterCard, "starter two blocks"), LEFT)
    draw_a_branch(qtbot, frame)
    stage(qtbot, frame, "training")
    child(frame, QSpinBox, "training.epochs").setValue(5)
    enter(frame, "preprocessing.input_size", "24")
    train(qtbot, frame, 1)

    stage(qtbot, frame, "results")
    qtbot.waitUntil(lambda: session.scores.current is not None, timeout=30_000)
    image = choose_a_mistake(qtbot, frame)
    click(qtbot, frame, "open case")
    assert [case.image for case in session.cases.book.cases] == [image]
    page = frame.page("explain")
    assert isinstance(page, ExplainPage)
    causes = page.evidence.of(CausesPanel)
    click(qtbot, frame, "evidence causes")
    click(qtbot, frame, "view of mistakes")
    qtbot.waitUntil(lambda: bool(causes.groups), timeout=90_000)
    acting = [
        (k, n, remedy.kind)
        for k, group in enumerate(causes.groups)
        for n, remedy in enumerate(group.remedies)
        if remedy.kind != "collect"
    ]
    cause, place, kind = acting[0]
    click(qtbot, frame, f"cause {cause}")
    drawn, decided = session.design.drawn, dict(session.images.curating.state)
    click(qtbot, frame, f"remedy {place} {kind}")
    assert (session.design.drawn, dict(session.images.curating.state)) != (drawn, decided), kind

    stage(qtbot, frame, "training")
    train(qtbot, frame, 2)
    stage(qtbot, frame, "explain")
    click(qtbot, frame, "case book")
    book = page.book
    qtbot.waitUntil(lambda: book.result is not None and len(book.result.cases[0].answers) == 2, timeout=60_000)
    assert book.result is not None
    assert book.result.cases[0].case.image == image
    assert not book.result.cases[0].answers[0].right

    undo = child(frame, QPushButton, "undo")
    words = []
    while undo.isVisible():
        assert undo.text() == f"undo {session.timeline.last}"
        words.append(session.timeline.last)
        assert len(words) < 30
        qtbot.keyClick(frame, Key.Key_Z, CONTROL)
    assert session.design.drawn == begun
    assert session.images.curating.state == {}
    assert session.cases.book.cases == ()
    assert len(words) >= 5, words
    assert sorted(session.runs.views) == [1, 2], "what was trained stays"
    assert [record.getMessage() for record in caplog.records if record.levelno >= logging.ERROR] == []
