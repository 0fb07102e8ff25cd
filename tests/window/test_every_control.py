"""Every control of every page is used, some after each other, with and without runs; the program has no fault."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtWidgets import QApplication, QMenu
from pytestqt.qtbot import QtBot
from tests.conftest import small_plan
from tests.window.clicking import answer_dialogs, deeds
from tests.window.test_drafts import BINARY, draw_class, of_two_classes

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import look_again
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import reap_children
from attentive_lens.errors import BadFile
from attentive_lens.window.application import make_frame
from attentive_lens.window.frame import Frame
from attentive_lens.window.session import Session
from attentive_lens.workspace import Workspace

PAIRS = 8
"""Pairs of controls, one after the other, for each page."""


def without_runs(folder: Path, station: Workspace) -> Workspace:
    del station
    return of_two_classes(folder)[1]


def with_runs_and_a_base(folder: Path, station: Workspace) -> Workspace:
    del folder
    other = small_plan().changed({"network": "residual", "training.epochs": 1})
    finish(execute(station, station.claim_run(other), lambda: False))
    draft = Session(station)
    draft.design.change(small_plan().changed({"base.run": 1, "base.until": "max pooling 2"}))
    draft.close()
    return station


def with_a_class_more_than_its_run(folder: Path, station: Workspace) -> Workspace:
    del station
    source, workspace = of_two_classes(folder)
    plan = small_plan().changed({"loss": BINARY, "training.epochs": 1})
    finish(execute(workspace, workspace.claim_run(plan), lambda: False))
    draw_class(source, "winged")
    finish(look_again(workspace))
    return workspace


@pytest.mark.parametrize("make", [without_runs, with_runs_and_a_base, with_a_class_more_than_its_run])
def test_whatever_is_clicked_and_in_whatever_order_there_is_no_fault(
    qtbot: QtBot,
    qapp: object,
    tmp_path: Path,
    station: Workspace,
    monkeypatch: pytest.MonkeyPatch,
    make: Callable[[Path, Workspace], Workspace],
) -> None:
    def refuse(*_: object, **__: object) -> None:
        raise BadFile("Nothing was begun", "a test would wait for it", "Go on")

    workspace = make(tmp_path, station)
    for name in ("start_training", "resume_training", "start_halving", "enqueue"):
        monkeypatch.setattr(f"attentive_lens.desk.training.state.{name}", refuse)
    answer_dialogs(monkeypatch)
    frame = make_frame(Session(workspace))
    with qtbot.waitSignal(frame.session.pixels_ready, timeout=30_000):
        frame.show()
    chosen = random.Random(workspace.name)
    try:
        for key in frame.rail.buttons:
            use_page(qtbot, frame, key, chosen)
    finally:
        for window in QApplication.topLevelWidgets():
            if window is not frame and not isinstance(window, QMenu):
                window.close()
        qtbot.waitUntil(lambda: reap_children() == 0, timeout=30_000)
        frame.close()
        frame.deleteLater()


def use_page(qtbot: QtBot, frame: Frame, key: str, chosen: random.Random) -> None:
    """Every control once, and pairs of them; then all is taken back that can be."""
    done: set[str] = set()
    frame.show_stage(key)
    qtbot.wait(100)
    while left := [each for each in deeds(frame.page(key)) if each[0] not in done]:
        name, deed = left[0]
        done.add(name)
        deed()
        qtbot.wait(1)
        frame.show_stage(key)
        assert len(done) < 1000
    for _ in range(PAIRS):
        for _ in range(2):
            possible = list(deeds(frame.page(key)))
            if possible:
                chosen.choice(possible)[1]()
        qtbot.wait(5)
        frame.show_stage(key)
    while frame.session.timeline.last:
        before = frame.session.timeline.last
        frame.session.step_back()
        if frame.session.timeline.last == before:
            break
