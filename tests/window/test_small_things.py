"""Small things that are met in ordinary work: prices that stay, reasons, files that hold what their names say."""

from __future__ import annotations

import csv
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QPushButton
from pytestqt.qtbot import QtBot
from tests.conftest import small_plan
from tests.driving import child, click, stage
from tests.images.test_array_sources import WRITERS

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.requests.images import FaultAction, FindFaults
from attentive_lens.desk.requests.prices import PlanPrice
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.images.faults import FAULTS
from attentive_lens.window.explaining.numbers import NumbersPanel
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.pages.results import ResultsPage
from attentive_lens.window.parts.basics import OneLine
from attentive_lens.window.pricing import priced_as
from attentive_lens.window.results.overview import LEAKS, OverviewView
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]


def results_of(frame: Frame) -> ResultsPage:
    page = frame.page("results")
    assert isinstance(page, ResultsPage)
    return page


def test_a_price_hangs_on_what_an_epoch_takes_and_on_nothing_else() -> None:
    plan = small_plan()
    for key, value in (("training.epochs", 99), ("seed", 5), ("schedule", "cosine"), ("stopping.target", 0.9)):
        assert priced_as(plan.changed({key: value})) == priced_as(plan), key
    for key, value in (
        ("training.batch_size", 8),
        ("preprocessing.input_size", 64),
        ("network", "three blocks"),
        ("optimiser", "sgd"),
        ("split.validation_fraction", 0.4),
        ("training.threads", 1),
    ):
        assert priced_as(plan.changed({key: value})) != priced_as(plan), key
    assert hash(priced_as(plan)) == hash(priced_as(plan.changed({"seed": 9})))


def test_the_price_outlives_the_bench_and_is_noted_with_the_run(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    frame = open_frame(station)
    session = frame.session
    started: list[float | None] = []
    monkeypatch.setattr(session.runs, "start", lambda plan, price=None: started.append(price))
    session.design.change(small_plan())
    stage(qtbot, frame, "network")
    qtbot.waitUntil(lambda: session.pricing.known(session.design.plan) is not None, timeout=60_000)
    assert "per epoch" in child(frame, QLabel, "price").text()
    stage(qtbot, frame, "training")
    session.design.change(session.design.plan.changed({"training.epochs": 7}))
    price = session.pricing.known(session.design.plan)
    assert isinstance(price, PlanPrice)
    assert "for 7 epochs" in child(frame, QLabel, "next run price").text()
    session.start()
    assert started == [price.epoch_seconds]
    session.design.change(session.design.plan.changed({"training.batch_size": 8}))
    assert session.pricing.known(session.design.plan) is None
    assert not child(frame, QLabel, "next run price").text()
    qtbot.waitUntil(lambda: session.pricing.known(session.design.plan) is not None, timeout=60_000)


def test_looking_for_leaks_asks_their_finders_alone_and_ends_with_something_to_do(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    rows = station.catalogue.images()
    trained = next(row for row in rows if row.given_set == "training")
    tested = next(row for row in rows if row.given_set == "test")
    station.path_of(tested).write_bytes(station.path_of(trained).read_bytes())
    result = finish(carry_out(FindFaults(str(station.folder), None, LEAKS)))
    assert set(LEAKS) <= FAULTS.keys()
    assert {fault.kind for fault in result.faults} <= {"leak", "duplicate", "tiles"}
    frame = open_frame(station)
    acted: list[FaultAction] = []
    monkeypatch.setattr(frame.session, "act", acted.append)
    stage(qtbot, frame, "results")
    view = results_of(frame).findChild(OverviewView)
    assert view is not None
    words: list[str] = []
    frame.session.worked.connect(lambda *_: words.append(view.result.text()))
    click(qtbot, frame, "look for leaks")
    qtbot.waitUntil(lambda: view._action is not None, timeout=60_000)
    assert any(" of " in sentence for sentence in words), "how far it is"
    mend = child(frame, QPushButton, "mend leaks")
    assert mend.isVisible()
    mend.click()
    assert acted == [view._action]


def test_numbers_are_written_as_their_file_s_ending_says(qtbot: QtBot, seen: Frame, tmp_path: Path) -> None:
    stage(qtbot, seen, "explain")
    page = seen.page("explain")
    assert isinstance(page, ExplainPage)
    page.evidence.open(NumbersPanel)
    panel = page.findChild(NumbersPanel)
    assert panel is not None
    qtbot.waitUntil(lambda: panel.seen is not None, timeout=60_000)
    assert panel.seen is not None
    for ending in (".csv", ".npy", ".npz"):
        panel.write(tmp_path / f"numbers{ending}")
    with np.load(tmp_path / "numbers.npz") as arrays:
        assert np.array_equal(arrays["values"], panel.seen.values)
        assert panel.seen.gradient is None or np.array_equal(arrays["gradient"], panel.seen.gradient)
    assert np.array_equal(np.load(tmp_path / "numbers.npy"), panel.seen.values)
    with (tmp_path / "numbers.csv").open(newline="") as stream:
        assert len(list(csv.reader(stream))) > 1
    panel.write(tmp_path / "numbers.xlsx")
    assert "none of .csv" in seen.bottom.message.text()
    assert not (tmp_path / "numbers.xlsx").exists()


def test_one_by_one_the_first_image_can_be_decided_about_and_the_share_is_of_all(qtbot: QtBot, seen: Frame) -> None:
    page = results_of(seen)
    page.behind.wrong()
    page.chosen.open_way(1)
    steps = page.chosen.steps
    assert steps.answers
    assert page.chosen.sheet.current == steps.answers[0].image - 1
    assert all(button.isEnabled() for button in page.chosen.decisions.buttons.values())
    right = sum(a.predicted == a.true for a in steps.answers)
    assert f"{right} of them right" in steps.so_far.text()
    qtbot.keyClick(steps, Qt.Key.Key_End)
    assert f"{right} of them right" in steps.so_far.text()


def test_a_new_image_says_why_it_has_no_case(qtbot: QtBot, seen: Frame) -> None:
    file = str(seen.session.workspace.path_of(seen.session.images.collection.rows[3]))
    classes = seen.session.images.collection.classes
    seen.session.file_asked.emit(file, classes[0])
    page = seen.page("explain")
    assert isinstance(page, ExplainPage)
    qtbot.waitUntil(lambda: page.explanation is not None and page.explanation.image is None, timeout=30_000)
    assert not child(seen, QPushButton, "open case").isEnabled()
    assert "add it to the workspace" in child(seen, OneLine, "case status").text()


def test_another_run_without_the_chosen_mistake_shows_its_own_mistakes(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    plan = small_plan().changed({"seed": 11, "training.epochs": 1})
    finish(execute(station, station.claim_run(plan), lambda: False))
    frame = open_frame(station)
    stage(qtbot, frame, "results")
    page = results_of(frame)
    qtbot.waitUntil(lambda: frame.session.scores.current is not None, timeout=30_000)
    first = frame.session.scores.current
    assert first is not None
    other = 1 if frame.session.runs.current == 2 else 2
    frame.session.runs.choose(other)
    qtbot.waitUntil(lambda: frame.session.scores.current not in (None, first), timeout=30_000)
    second = frame.session.scores.current
    assert second is not None
    cells = [
        (true, predicted)
        for true in range(6)
        for predicted in range(6)
        if true != predicted and second.confusion[true, predicted] and not first.confusion[true, predicted]
    ]
    assert cells
    page.behind.cells([cells[0]])
    assert page.chosen.parts
    frame.session.runs.choose(3 - other)
    qtbot.waitUntil(lambda: frame.session.scores.current == first, timeout=30_000)
    assert page.chosen.parts or page.chosen.title.text() == "No image was answered wrongly"


@pytest.mark.parametrize("name", ["npz", "table"])
def test_an_image_of_an_array_is_as_many_bytes_as_it_has_values(name: str, tmp_path: Path) -> None:
    images = np.arange(6 * 8 * 8, dtype=np.uint8).reshape(6, 8, 8, 1)
    place = WRITERS[name][1](tmp_path, images, ["a", "b"] * 3)
    workspace = finish(make_workspace(tmp_path / "work", place)).workspace
    assert {row.bytes for row in workspace.catalogue.images()} == {64}
