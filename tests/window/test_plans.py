"""Plans in the window: kept, named, opened, saved, taken from runs; images by name; the list of keys."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QShortcut
from PyQt6.QtWidgets import QCheckBox, QLabel, QLineEdit, QPushButton, QTableWidget
from pytestqt.qtbot import QtBot
from tests.driving import LEFT, child, click, stage

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.browsing import find_images
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.network import design
from attentive_lens.desk.network.design import FILE, Design, save_plan
from attentive_lens.desk.results.comparing import compare
from attentive_lens.desk.training.executing import execute
from attentive_lens.plan.plan import Plan
from attentive_lens.training import loop
from attentive_lens.window.frame import Frame
from attentive_lens.window.network.chooser import StarterCard
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.parts.basics import OneLine
from attentive_lens.window.parts.chart import Chart
from attentive_lens.window.parts.jump import JumpField
from attentive_lens.window.parts.plan_panel import PlanPanel
from attentive_lens.window.parts.sheet import ContactSheet
from attentive_lens.window.shortcuts import SHORTCUTS, ShortcutList
from attentive_lens.window.training.rates import RateChart, RatesPanel
from attentive_lens.window.workspace_menu import WorkspaceMenu
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]


def enter(qtbot: QtBot, field: QLineEdit, words: str) -> None:
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, words)
    qtbot.keyClick(field, Qt.Key.Key_Return)


def test_the_plan_being_designed_is_kept_when_the_window_closes(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "network")
    click(qtbot, frame, "choose starter")
    qtbot.mouseClick(child(frame, StarterCard, "starter two blocks"), LEFT)
    stage(qtbot, frame, "training")
    enter(qtbot, child(frame, QLineEdit, "preprocessing.input_size"), "24")
    says = child(frame, QLabel, "name and seed says")
    assert says.text() == f"{frame.session.design.plan.name}, {frame.session.design.plan.seed}"
    click(qtbot, frame, "name and seed")
    assert not says.isVisible()
    enter(qtbot, child(frame, QLineEdit, "plan.name"), "my own")
    enter(qtbot, child(frame, QLineEdit, "plan.seed"), "41")
    designed = frame.session.design.plan
    assert (designed.name, designed.seed) == ("my own", 41)
    frame.close()
    again = open_frame(station)
    assert again.session.design.plan == designed
    stage(qtbot, again, "training")
    assert child(again, QLineEdit, "plan.name").text() == "my own"
    click(qtbot, again, "main action")
    qtbot.waitUntil(lambda: again.session.runs.view is not None and again.session.runs.view.number == 2, timeout=30_000)
    assert station.run(2).plan() == designed


def test_a_damaged_draft_is_told_and_left_until_the_plan_changes(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    (station.folder / FILE).write_text("name = [", "utf-8")
    frame = open_frame(station)
    stage(qtbot, frame, "training")
    assert "draft of the last time was not taken" in child(frame, QLabel, "plan problem").text()
    assert frame.session.design.plan == Plan()
    frame.close()
    assert (station.folder / FILE).read_text("utf-8") == "name = ["
    draft = Design(station)
    draft.change(Plan().changed({"seed": 3}))
    draft.keep()
    assert Design(station).plan.seed == 3


@pytest.mark.parametrize(("field", "words"), [("plan.name", " "), ("plan.seed", "-4"), ("plan.seed", "many")])
def test_a_wrong_name_or_seed_is_explained_and_changes_nothing(
    field: str, words: str, qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "training")
    click(qtbot, frame, "name and seed")
    before = child(frame, QLineEdit, field).text()
    enter(qtbot, child(frame, QLineEdit, field), words)
    assert child(frame, QLabel, "plan problem").isVisible()
    assert child(frame, QLabel, "plan problem").text()
    assert child(frame, QLineEdit, field).text() == before
    assert frame.session.design.plan == Plan()


def test_plans_are_saved_opened_and_taken_from_runs(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, tmp_path: Path
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "training")
    panel = frame.findChild(PlanPanel)
    assert panel is not None
    file = tmp_path / "mine.toml"
    save_plan(file, Plan().changed({"network": "residual", "name": "deep", "seed": 5}))
    panel.open_file(file)
    assert (frame.session.design.plan.name, frame.session.design.plan.seed) == ("deep", 5)
    panel.save_file(tmp_path / "again.toml")
    assert (tmp_path / "again.toml").read_text("utf-8") == file.read_text("utf-8")
    file.write_text("network = 'for blocks'\n", "utf-8")
    panel.open_file(file)
    assert "blocks" in child(frame, QLabel, "plan problem").text()
    assert frame.session.design.plan.name == "deep"
    panel.save_file(tmp_path / "nowhere" / "plan.toml")
    assert "could not be written" in child(frame, QLabel, "plan problem").text()
    click(qtbot, frame, "use run plan")
    assert frame.session.design.plan == station.run(1).plan()
    assert "plan of run 1" in child(frame, QLabel, "message").text()


def test_a_plan_too_large_for_the_machine_is_warned_of_on_the_bench(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "network")
    memory = child(frame, QLabel, "memory warning")
    assert child(frame, QLabel, "network about").text().endswith("B to train")
    assert not memory.isVisible()
    frame.session.design.change(
        frame.session.design.plan.changed({"preprocessing.input_size": 1024, "training.batch_size": 4096})
    )
    assert "are free" in memory.text()
    assert memory.isVisible()
    monkeypatch.setattr(design.psutil, "virtual_memory", lambda: type("Free", (), {"available": 1 << 50}))
    frame.session.plan_changed.emit()
    assert not memory.isVisible()


def test_an_image_is_found_by_number_and_name_whatever_the_filters_hide(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "images")
    sheet = child(frame, ContactSheet, "contact sheet")
    field = frame.pages["images"].findChild(JumpField)
    assert field is not None
    enter(qtbot, field, "17")
    assert sheet.current == 16
    rows = frame.session.images.collection.rows
    click(qtbot, frame, "set training")
    hidden = next(k for k, name in enumerate(frame.session.images.collection.sets) if name == "training")
    assert hidden not in {place for group in sheet.groups for place in group.places}
    enter(qtbot, field, rows[hidden].name.upper())
    assert sheet.current == hidden
    assert child(frame, QPushButton, "set training").isChecked()
    several = find_images(frame.session.images.collection, "tape0")
    assert len(several) > 3
    enter(qtbot, field, "tape0")
    first = sheet.current
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert [first, sheet.current] == several[:2]
    enter(qtbot, field, "no such image")
    message = child(frame, QLabel, "message")
    assert "No image is called" in message.text()
    assert "1 to 90" in message.text()
    stage(qtbot, frame, "explain")
    qtbot.waitUntil(lambda: frame.rail.buttons["explain"].state != "", timeout=30_000)
    page = frame.pages["explain"]
    assert isinstance(page, ExplainPage)
    enter(qtbot, page.jump, "33")
    qtbot.waitUntil(lambda: "image 33 " in child(frame, OneLine, "mistake place").text(), timeout=30_000)


def test_names_are_found_whole_first_then_by_their_beginning_then_within(station: Workspace) -> None:
    result = collection(station, Plan())
    name = result.rows[5].name
    assert find_images(result, name)[0] == 5
    assert find_images(result, name.rsplit(".", 1)[0])[0] == 5
    assert find_images(result, str(len(result.rows))) == [len(result.rows) - 1]
    assert find_images(result, str(len(result.rows) + 1)) == find_images(result, "0") == []
    folder = result.rows[5].file.split("/")[-2]
    assert 5 in find_images(result, f"/{folder}/")


def test_the_question_mark_lists_every_key(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> None:
    frame = open_frame(station)
    frame.activateWindow()
    shown = child(frame, ShortcutList, "shortcuts")
    assert not shown.isVisible()
    qtbot.keyClick(frame, Qt.Key.Key_Question)
    assert shown.isVisible()
    qtbot.keyClick(shown, Qt.Key.Key_Escape)
    assert not shown.isVisible()
    keys = {key.key().toString(): key for key in frame.findChildren(QShortcut)}
    qtbot.keyClicks(frame, "?")
    assert shown.isVisible()
    click(qtbot, frame, "close shortcuts")
    assert not shown.isVisible()
    summary = " ".join(words for section in SHORTCUTS.values() for words, _ in section)
    for page in frame.pages.values():
        keys |= {key.key().toString(): key for key in page.findChildren(QShortcut)}
    words = {"PgDown": "Page down", "PgUp": "Page up", **{f"Ctrl+{k}": "Ctrl+1 …" for k in range(2, 6)}}
    words |= {f"Ctrl+Shift+{k}": "Ctrl+Shift+1 …" for k in range(2, 9)}
    entries = child(frame, WorkspaceMenu, "workspace name").entries
    for key in (*keys, *(each for _, each, _ in entries)):
        assert words.get(key, key) in summary, key


def test_learning_rates_are_swept_and_one_click_takes_one(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    frame = open_frame(station)
    frame.session.design.change(station.run(1).plan())
    stage(qtbot, frame, "training")
    click(qtbot, frame, "sweep rates")
    panel = child(frame, RatesPanel, "rates panel")
    assert panel.isVisible()
    assert not child(frame, Chart, "loss chart").isVisible()
    assert not child(frame, QPushButton, "take rate").isVisible()
    chart = child(frame, RateChart, "rate chart")
    qtbot.waitUntil(lambda: chart.swept is not None, timeout=60_000)
    swept = chart.swept
    assert swept is not None
    assert child(frame, QLabel, "rates advice").text() == swept.advice
    assert child(frame, QPushButton, "take rate").text() == f"Use {swept.suggested:.2g}"
    before = frame.session.design.plan.optimiser.learning_rate
    at = QPoint(round(chart.place_across(2e-4)), chart.height() // 2)
    qtbot.mouseClick(chart, LEFT, pos=at)
    assert chart.chosen == pytest.approx(2e-4, rel=0.1)
    click(qtbot, frame, "take rate")
    taken = frame.session.design.plan.optimiser.learning_rate
    assert taken == pytest.approx(2e-4, rel=0.1)
    assert float(f"{taken:.1e}") == taken, "two figures"
    assert child(frame, Chart, "loss chart").isVisible()
    assert frame.session.design.undo() == "the learning rate"
    assert frame.session.design.plan.optimiser.learning_rate == before
    monkeypatch.setattr(type(frame.session.runs), "training", property(lambda self: self.view))
    click(qtbot, frame, "sweep rates")
    assert "A run is training" in child(frame, QLabel, "rates advice").text()
    click(qtbot, frame, "close rates")
    assert not panel.isVisible()


def test_all_runs_are_listed_sorted_compared_and_drawn_together(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    shorter = station.run(1).plan().changed({"seed": 9, "training.epochs": 1})
    finish(execute(station, station.claim_run(shorter), lambda: False))
    frame = open_frame(station)
    frame.session.runs.choose(2)
    stage(qtbot, frame, "training")
    click(qtbot, frame, "all runs view")
    table = child(frame, QTableWidget, "runs table")
    heads = [table.horizontalHeaderItem(k).text() for k in range(table.columnCount())]
    assert heads[:2] == ["run", "name"]
    assert set(heads[10:]) == {"seed", "epochs"}
    assert table.horizontalHeaderItem(heads.index("epochs")).toolTip() == "training.epochs"

    def column(head: str) -> list[str]:
        return [table.item(row, heads.index(head)).text() for row in range(table.rowCount())]

    for order in (Qt.SortOrder.DescendingOrder, Qt.SortOrder.AscendingOrder):
        table.sortItems(heads.index("time"), order)
        table.sortItems(heads.index("loss"), order)
        losses = [float(loss) for loss in column("loss")]
        assert losses == sorted(losses, reverse=order == Qt.SortOrder.DescendingOrder)
    table.sortItems(0)
    assert column("run") == ["1", "2"]
    draw, advice = child(frame, QPushButton, "draw runs"), child(frame, QLabel, "runs advice")
    assert "Select two runs" in advice.text()
    table.selectRow(1)
    assert not draw.isVisible(), "it is drawn already"
    table.selectAll()
    assert advice.text() == compare(station, 1, 2).advice
    click(qtbot, frame, "draw runs")
    loss = child(frame, Chart, "loss chart")
    assert loss.isVisible()
    drawn = {curve.name: curve.points for curve in loss.curves}
    assert [x for x, _ in drawn["run 1"]] == [1, 2]
    assert loss.span == 2, "as far as the longer one goes"
    click(qtbot, frame, "all runs view")
    table.clearSelection()
    assert draw.text() == "Take curves off"
    click(qtbot, frame, "draw runs")
    assert "run 1" not in {curve.name for curve in loss.curves}
    click(qtbot, frame, "all runs view")
    table.selectRow(0)
    click(qtbot, frame, "view run")
    assert frame.session.runs.current == 1


def test_a_run_is_watched_with_its_learning_rate_a_logarithm_and_one_cursor(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(loop, "JOURNAL_SECONDS", 0.0)
    falling = station.run(1).plan().changed({"schedule": "cosine", "training.epochs": 3})
    finish(execute(station, station.claim_run(falling), lambda: False))
    frame = open_frame(station)
    stage(qtbot, frame, "training")
    rate, loss = child(frame, Chart, "rate curve"), child(frame, Chart, "loss chart")
    frame.session.runs.choose(1)
    assert not rate.isVisible(), "it is the same all along"
    frame.session.runs.choose(2)
    assert rate.isVisible()
    rates = [y for _, y in rate.curves[0].points]
    assert rates == sorted(rates, reverse=True)
    assert rates[-1] < rates[0] / 2
    assert rate.span == loss.span == 3
    area = loss.area()
    qtbot.mouseMove(loss, QPoint(round(area.left() + area.width() * 2 / 3), round(area.center().y())))
    assert rate.read_at == loss.read_at == pytest.approx(2, abs=0.05)
    frame.grab()
    loss.leaveEvent(None)
    assert rate.read_at is None
    tick = child(frame, QCheckBox, "log loss")
    assert not tick.isVisible()
    click(qtbot, frame, "how curves are drawn")
    assert tick.isVisible()
    qtbot.mouseClick(tick, LEFT, pos=QPoint(8, 8))
    assert loss.log


def test_the_next_run_is_rehearsed_and_what_came_of_it_goes_with_the_plan(qtbot: QtBot, seen: Frame) -> None:
    seen.show_stage("training")
    says = child(seen, QLabel, "rehearsal says")
    seen.session.design.change(seen.session.design.plan.changed({"training.batch_size": 16}))
    click(qtbot, seen, "rehearse")
    assert says.text() == "Rehearsing …"
    assert not child(seen, QPushButton, "rehearse").isEnabled()
    qtbot.waitUntil(lambda: "It runs through" in says.text(), timeout=120_000)
    assert says.property("role") == "good"
    seen.session.design.change(seen.session.design.plan.changed({"optimiser.learning_rate": 9.0}))
    assert not says.isVisible(), "it was another plan that ran through"
    click(qtbot, seen, "rehearse")
    qtbot.waitUntil(lambda: "runs away" in says.text(), timeout=120_000)
    assert says.property("role") == "bad"
    assert len(seen.session.runs.views) == 1
