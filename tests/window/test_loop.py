"""Once around the loop: offered on a demo, each step ticked by what was done, left and taken up at any time."""

from __future__ import annotations

import shutil
from collections.abc import Callable

from PyQt6.QtWidgets import QMenu
from pytestqt.qtbot import QtBot
from tests.driving import click, stage

from attentive_lens.core.jobs import finish
from attentive_lens.desk.case_status import STATUSES
from attentive_lens.desk.loop import ANSWER_KEY, PROVED, STEPS, done, heard, next_step
from attentive_lens.desk.remembering import recall
from attentive_lens.desk.requests.cases import CasesTried, TryCases
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.state import OpenRuns
from attentive_lens.window.explaining.causes import CausesPanel
from attentive_lens.window.frame import LEAST, Frame
from attentive_lens.window.loop_strip import ONE_LINE
from attentive_lens.window.pages import STAGES
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.cases import Case, CaseBook


def test_every_step_has_a_place_that_is_there(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], station: Workspace
) -> None:
    frame = open_frame(station)
    assert list(STEPS) == ["look", "train", "find", "explain", "act", "prove"]
    assert frame.loop.isVisible() and frame.loop.step == "look", "offered the first time"
    for key, step in STEPS.items():
        click(qtbot, frame, f"step {key}")
        assert frame.loop.words.text().endswith(step.sentence)
        click(qtbot, frame, "show step")
        assert frame.current == step.stage and step.stage in STAGES
    assert frame.page("training").bookmark()["view"] == STEPS["prove"].view
    assert frame.page("results").bookmark()["view"] == STEPS["find"].view
    assert frame.page("explain").bookmark()["panel"] == CausesPanel.title
    known = ["Look for faults", "Start training", "Open a case", "Causes", "Repeat"]
    assert all(any(word in step.sentence for step in STEPS.values()) for word in known)


def test_steps_are_ticked_by_what_was_done(station: Workspace) -> None:
    runs = OpenRuns(station).views
    assert done(station, {}, CaseBook(), ()) == frozenset() and next_step(()) == "look"
    assert done(station, runs, CaseBook(), ("look",)) == {"look", "train"}
    assert next_step({"look", "train"}) == "find"
    station.run(1).scores_file("test").write_bytes(b"judged")
    assert done(station, runs, CaseBook(), ()) == {"train", "find"}
    book = CaseBook((Case(1, 5, 1, "spiny", "winged", 0.0),))
    assert done(station, runs, book, ()) == {"train", "find", "explain"}
    plan = station.run(1).plan()
    for changes, acted in (({"seed": 9}, False), ({"seed": 9, "optimiser.learning_rate": 0.002}, True)):
        finish(execute(station, station.claim_run(plan.changed(changes)), lambda: False))
        assert ("act" in done(station, OpenRuns(station).views, book, ())) is acted, changes
    later = CaseBook((Case(1, 5, 3, "spiny", "winged", 0.0),))
    assert "act" not in done(station, OpenRuns(station).views, later, ()), "what was trained before the case is no act"
    shutil.rmtree(station.run(1).folder)
    assert "act" not in done(station, OpenRuns(station).views, book, ()), "what it is compared with is gone"
    assert next_step(STEPS) == "prove" and set(done(station, {}, book, ("prove", "other"))) >= {"explain", "prove"}


def test_what_leaves_no_trace_is_heard_and_remembered(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], station: Workspace
) -> None:
    tried = TryCases(str(station.folder))
    assert heard(tried, CasesTried((), {"right, not proved": 2}, {})) == "" == heard(None, None)
    assert heard(tried, CasesTried((), {"fixed": 1}, {})) == "prove"
    assert PROVED in STATUSES
    frame = open_frame(station)
    stage(qtbot, frame, "images")
    click(qtbot, frame, "look for faults")
    qtbot.waitUntil(lambda: "look" in frame.loop.done, timeout=60_000)
    assert frame.loop.steps["look"].text().startswith("✓") and frame.loop.step == "find", "the first that is open"
    assert "done" in frame.loop.steps["look"].accessibleName()
    click(qtbot, frame, "leave loop")
    assert not frame.loop.isVisible()
    frame.close()
    assert recall(station.folder)["loop"] == {"shown": False, "done": ["look"]}
    again = open_frame(station)
    assert not again.loop.isVisible(), "left is left"
    menu = again.findChild(QMenu, "workspace menu")
    assert menu is not None
    (entry,) = [each for each in menu.actions() if each.text() == "Once around the loop"]
    entry.trigger()
    assert again.loop.isVisible() and "look" in again.loop.done


def test_it_is_not_offered_on_other_workspaces(
    open_frame: Callable[[Workspace], Frame], station: Workspace, fields: Workspace
) -> None:
    assert not open_frame(fields).loop.isVisible(), "its runs answer several labels"
    shutil.rmtree(station.folder / ANSWER_KEY)
    assert not open_frame(station).loop.isVisible()


def test_all_done_is_told(open_frame: Callable[[Workspace], Frame], station: Workspace) -> None:
    frame = open_frame(station)
    frame.loop.done = frozenset(STEPS)
    frame.loop.show_step("prove")
    assert frame.loop.words.text().startswith("All six steps are done")
    frame.loop.show_step("look")
    assert frame.loop.words.text() == STEPS["look"].sentence


def test_in_a_low_window_it_is_one_line(open_frame: Callable[[Workspace], Frame], station: Workspace) -> None:
    frame = open_frame(station)
    frame.resize(1280, 800)
    assert not frame.loop.title.isHidden() and not frame.loop.words.isHidden() and frame.loop.line.text() == ""
    tall = frame.loop.sizeHint().height()
    frame.resize(1100, 680)
    assert frame.height() == 680 and frame.loop.title.isHidden() and frame.loop.words.isHidden()
    assert frame.loop.line.text() == STEPS["look"].sentence and frame.loop.sizeHint().height() <= ONE_LINE < tall
    frame.loop.show_step("find")
    assert frame.loop.line.text() == STEPS["find"].sentence
    assert frame.minimumHeight() == LEAST[1] + ONE_LINE
    frame.loop.leave()
    assert frame.minimumHeight() == LEAST[1]
