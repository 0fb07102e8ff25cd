"""What the window says while loops are compiled for this processor, and that it loads no view before it is wanted."""

from __future__ import annotations

from dataclasses import replace

import pytest
from PyQt6.QtWidgets import QLabel
from pytestqt.qtbot import QtBot
from tests.driving import child, stage

from attentive_lens.desk import compiling
from attentive_lens.window.frame import LEAST, Frame
from attentive_lens.window.pages.results import ResultsPage
from attentive_lens.window.results.views import VIEWS, views_of


def test_a_run_that_has_no_step_yet_says_how_far_compiling_is(
    qtbot: QtBot, shared: Frame, monkeypatch: pytest.MonkeyPatch
) -> None:
    stage(qtbot, shared, "training")
    page, runs = shared.page("training"), shared.session.runs
    assert runs.current is not None
    begun = replace(runs.views[runs.current], state="training", epochs=[], batches=[], paused=False)
    title = child(page, QLabel, "training title")
    shared.resize(*LEAST)
    for done, words in ((1, "is compiling for this processor, once: 1 of 2"), (2, "is training")):
        monkeypatch.setattr(compiling, "progress", lambda done=done: (done, 2))
        monkeypatch.setitem(runs.views, runs.current, begun)  # the window looks at its runs anew while it waits below
        page.refresh()
        assert title.text() == f"Run {runs.current} {words}"
        qtbot.waitUntil(lambda: title.sizeHint().width() <= title.width())
    monkeypatch.undo()
    page.refresh()
    shared.resize(1280, 800)


def test_every_view_of_the_results_is_made_when_it_is_first_opened(qtbot: QtBot, shared: Frame) -> None:
    stage(qtbot, shared, "results")
    page = ResultsPage(shared.session)
    qtbot.addWidget(page)
    assert list(page.made) == ["overview"]
    figures = [entry.figure for entry in page.views.values()]
    for word in views_of("classify"):
        view = VIEWS[word]
        page.show_view(word)
        assert page.current.word == word == view.load().word
        assert page.shown.currentWidget() is page.current
        assert page.current is page.view(view.load())
    assert tuple(page.made) == views_of("classify")
    page.show_view("overview")
    assert page.shown.count() == len(views_of("classify"))
    assert figures[0], "it is known before a view is there"
