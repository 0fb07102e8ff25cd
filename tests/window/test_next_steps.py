"""What to do next as it is used: from the trouble above the curves to remedies that are tried, used and told of."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import pytest
from PyQt6.QtWidgets import QFrame, QLabel, QPushButton
from pytestqt.qtbot import QtBot
from tests.driving import child, click, stage

from attentive_lens.core.jobs import finish
from attentive_lens.desk.remedies.forecasts import digest_of, keep_forecasts
from attentive_lens.desk.requests.remedies import MOST, Forecast, NextStep
from attentive_lens.desk.training.advising import advice_of
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.plan.plan import Plan
from attentive_lens.window.frame import Frame
from attentive_lens.window.parts.basics import OneLine
from attentive_lens.window.parts.chart import Chart
from attentive_lens.window.training.next_steps import ForecastBar, NextStepsView, reason
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]


@pytest.fixture
def frame(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> Frame:
    window = open_frame(station)
    stage(qtbot, window, "training")
    return window


def test_trouble_stands_above_the_curves_and_leads_to_what_to_do_next(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    slow = station.run(1).plan().changed({"optimiser.learning_rate": 1e-7, "training.epochs": 3})
    finish(execute(station, station.claim_run(slow), lambda: False))
    frame = open_frame(station)
    frame.session.runs.choose(2)
    stage(qtbot, frame, "training")
    result = advice_of(station, station.run(2), RunReader(station.run(2)).view())
    assert result[0].kind == "rate too low"
    assert child(frame, OneLine, "advice title").text() == f"Rate too low (and {len(result) - 1} more)"
    evidence, everything = child(frame, OneLine, "advice evidence"), child(frame, QLabel, "all advice")
    assert evidence.text().startswith("A step changes the weights")
    assert not everything.isVisible()
    click(qtbot, frame, "more advice")
    assert everything.isVisible()
    assert all(finding.remedy in everything.text() for finding in result)
    assert child(frame, Chart, "loss chart").flags == ((1.0, "rate too low"),)
    click(qtbot, frame, "what to do next view")
    view = child(frame, NextStepsView, "next steps")
    qtbot.waitUntil(lambda: bool(view.rows), timeout=20_000)
    assert not child(frame, QFrame, "advice strip").isVisible(), "the list tells it"
    assert view.rows[0].step.kind == "rate too low"
    assert "Rate too low since epoch 1" in child(frame, QLabel, "step reason 0").text()
    click(qtbot, frame, "use step 0")
    plan = frame.session.design.plan
    assert plan == result[0].plan
    finish(execute(station, station.claim_run(replace(plan, name="with it")), lambda: False))
    frame.session.tick()

    def says_what_came() -> bool:
        return any(row.step.run == 3 and row.step.effect.startswith("Tried in run 3") for row in view.rows)

    qtbot.waitUntil(says_what_came, timeout=20_000)
    place = next(k for k, row in enumerate(view.rows) if row.step.run == 3)
    words = [each.text() for each in view.rows[place].findChildren(QLabel)]
    assert "gained in run 3" in words


def test_what_became_known_meanwhile_is_there_when_the_list_is_opened_again(qtbot: QtBot, frame: Frame) -> None:
    click(qtbot, frame, "what to do next view")
    view = child(frame, NextStepsView, "next steps")
    qtbot.waitUntil(lambda: bool(view.rows), timeout=20_000)
    step = next(row.step for row in view.rows if row.step.can_be_tried and row.step.plan is not None)
    click(qtbot, frame, "curves view")
    made = Forecast("accuracy", 0.2, 0.1, 0.3, 0.6, 0.4, 2, step.change, 1)
    keep_forecasts(frame.session.workspace.run(1), {digest_of(Plan.read(step.plan or {})): made})
    click(qtbot, frame, "what to do next view")
    qtbot.waitUntil(lambda: view.rows[0].step.forecast == made, timeout=20_000)
    assert child(frame, QLabel, "step figure 0").text() == "+20.0"


def test_remedies_are_tried_in_the_window_and_the_trying_can_be_stopped(qtbot: QtBot, frame: Frame) -> None:
    click(qtbot, frame, "what to do next view")
    view = child(frame, NextStepsView, "next steps")
    qtbot.waitUntil(lambda: bool(view.rows), timeout=20_000)
    start, says = child(frame, QPushButton, "try remedies"), child(frame, QLabel, "next steps says")
    assert start.text().startswith(f"Try {MOST} of ")
    assert "Gains in points of accuracy, over the" in says.text()
    assert not view.findChildren(ForecastBar)
    click(qtbot, frame, "try remedies")
    assert start.text() == "Stop trying"
    qtbot.waitUntil(lambda: bool(view.findChildren(ForecastBar)), timeout=120_000)
    assert view.trying
    tried = [row.step.kind for row in view.rows if row.step.tried]
    click(qtbot, frame, "try remedies")
    assert not view.trying
    qtbot.waitUntil(lambda: view.steps is not None and view.steps.under_way == 0, timeout=60_000)
    assert start.text().startswith("Try ")
    assert set(tried) <= {row.step.kind for row in view.rows if row.step.tried}, "what was tried is kept"
    row = next(row for row in view.rows if row.step.tried)
    (bar,) = row.findChildren(ForecastBar)
    assert bar.place(-1.0) == bar.place(-0.1) < bar.place(0) < bar.place(0.05) < bar.place(1.0) == bar.place(0.1)
    made = row.step.forecast
    assert made is not None
    assert f"After {made.epochs} epoch" in bar.toolTip()
    before = bar.grab().toImage()
    bar.made = replace(made, gain=made.gain + 0.05, low=made.low + 0.05, high=made.high + 0.05)
    assert bar.grab().toImage() != before, "the bar shows the forecast"


def test_what_helps_together_says_what_its_trial_came_to_once_it_has_one() -> None:
    made = Forecast("accuracy", 0.05, 0.01, 0.09, 0.7, 0.62, 3, "together", 2)
    step = NextStep("together", "together", 0, "Both.", "", "", "", "together", (), None, forecast=made)
    assert reason(step) == "What is expected to help, at once."
    assert reason(replace(step, tried=True)).startswith("After 3 epochs 70")


def test_a_line_ends_where_its_room_does_or_is_not_shown_at_all(qtbot: QtBot) -> None:
    words = "The largest class has many more images than the smallest"
    cut, whole = OneLine("cut"), OneLine("whole", whole=True)
    for line in (cut, whole):
        qtbot.addWidget(line)
        line.resize(120, 20)
        line.show()
        line.setText(words)
        assert line.text() == words
        picture = line.grab().toImage()
        assert (len({picture.pixel(k, 10) for k in range(120)}) > 1) == (line is cut), "the other is not drawn at all"
    assert cut.shown() != words
    assert cut.shown().endswith("…")
    assert whole.shown() == ""
    for line in (cut, whole):
        line.resize(900, 20)
        assert line.shown() == words
