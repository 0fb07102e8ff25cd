"""The Results stage: each figure leads to its images."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QApplication, QComboBox, QLabel, QPushButton, QSlider, QTableWidget
from pytestqt.qtbot import QtBot
from tests.driving import LEFT, child, click, stage

from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.slices import FindSlices
from attentive_lens.desk.results.manifest import manifest
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.errors import LensError
from attentive_lens.scoring.measures import confusions, overview, per_class
from attentive_lens.scoring.paired import paired
from attentive_lens.scoring.scores import Scores
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.results import ResultsPage
from attentive_lens.window.parts.contents import Entry
from attentive_lens.window.parts.saving import save_picture
from attentive_lens.window.parts.sheet import ContactSheet
from attentive_lens.window.parts.unit_square import UnitSquare
from attentive_lens.window.results.confidence import BinBars
from attentive_lens.window.results.overview import AccuracyBars, OverviewView
from attentive_lens.window.results.views import VIEWS
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.corrections import Correction

DEGRADED = ("blur", "noise", "darker", "brighter", "contrast", "rotation", "shift", "JPEG")
NONE, NO_BUTTON = Qt.KeyboardModifier.NoModifier, Qt.MouseButton.NoButton
OpenFrame = Callable[[Workspace], Frame]


@pytest.fixture
def frame(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> Frame:
    window = open_frame(station)
    stage(qtbot, window, "results")
    qtbot.waitUntil(lambda: window.session.scores.current is not None, timeout=30_000)
    return window


def scores_of(frame: Frame) -> Scores:
    scores = frame.session.scores.current
    assert scores is not None
    return scores


def places(frame: Frame) -> list[int]:
    return [place for group in child(frame, ContactSheet, "cell images").groups for place in group.places]


def test_the_figures_beside_the_accuracy_are_those_of_the_set(qtbot: QtBot, seen: Frame) -> None:
    frame = seen
    scores = scores_of(frame)
    summary = overview(scores)
    about = child(frame, QLabel, "results about").text()
    assert f"of {scores.images} validation images right" in about
    assert summary.accuracy.low is not None
    figures = {name: child(frame, Entry, f"{name} of scores").figure for name in ("overview", "matrix", "classes")}
    assert figures["overview"].startswith(f"{summary.accuracy.low * 100:.1f} to ")
    first = confusions(scores)[0]
    assert figures["matrix"] == f"{first.images}: {first.true} → {first.predicted}"
    least = min(each.recall.value for each in per_class(scores) if each.recall.value is not None)
    assert f" {least * 100:.1f}" in figures["classes"]
    click(qtbot, frame, "score training")
    qtbot.waitUntil(lambda: frame.session.scores.current is not None, timeout=30_000)
    assert child(frame, QLabel, "results about").text() != about
    assert child(frame, Entry, "overview of scores").figure != figures["overview"]


def test_remarks_stand_open_on_the_overview_and_behind_a_chip_elsewhere(
    qtbot: QtBot, seen: Frame, monkeypatch: pytest.MonkeyPatch
) -> None:
    frame, scores = seen, seen.session.scores
    page = frame.page("results")
    assert isinstance(page, ResultsPage)
    chip, remark = child(frame, QPushButton, "remarks"), child(frame, QLabel, "results caution")
    monkeypatch.setattr(scores, "cautions", lambda: ["The first.", "The second."])
    page.refresh()
    assert (chip.text(), remark.text()) == ("2 remarks", "The first.\nThe second.")
    assert remark.isVisible(), "the overview is open"
    click(qtbot, frame, "matrix of scores")
    assert not remark.isVisible()
    qtbot.mouseClick(chip, LEFT)
    assert remark.isVisible()
    click(qtbot, frame, "classes of scores")
    assert not remark.isVisible()
    monkeypatch.setattr(scores, "cautions", list)
    page.refresh()
    assert not chip.isVisible()


def test_a_class_leads_to_those_missed_and_those_falsely_said_and_its_curves(qtbot: QtBot, seen: Frame) -> None:
    frame = seen
    click(qtbot, frame, "classes of scores")
    scores, table = scores_of(frame), child(frame, QTableWidget, "classes table")
    assert table.rowCount() == len(scores.classes)
    curve = child(frame, UnitSquare, "precision curve")
    with_images = sum(each.support > 0 for each in per_class(scores))
    assert [line.role for line in curve.lines] == ["line"] * with_images, "every class, faintly"
    summary = {each.name: each for each in per_class(scores)}
    for row in range(table.rowCount()):
        table.selectRow(row)
        name = table.item(row, 0).text()
        number = scores.classes.index(name)
        assert table.item(row, 4).text() == str(summary[name].support)
        wrong = {a.image - 1 for a in scores.answers if a.predicted != a.true and number in (a.predicted, a.true)}
        assert set(places(frame)) == wrong
        assert bool(curve.lines) == (summary[name].support > 0), name
    told_at = next(k for k, line in enumerate(curve.lines) if line.role == "petrol")
    line, area = curve.lines[told_at], curve.area()
    x, y = line.points[len(line.points) // 2]
    at = QPointF(area.left() + x * area.width(), area.bottom() - y * area.height())
    QApplication.sendEvent(curve, QMouseEvent(QEvent.Type.MouseMove, at, at, NO_BUTTON, NO_BUTTON, NONE))
    assert f"recall {x * 100:.1f}" in curve.in_words()
    assert "at threshold" in curve.in_words()
    curve.grab()
    table.sortItems(2)
    shown = [summary[table.item(row, 0).text()].recall.value for row in range(table.rowCount())]
    known = [value for value in shown if value is not None]
    assert known == sorted(known)
    assert shown[: len(known)] == known, "classes without images come last"


def test_withholding_unsure_answers_tells_its_cost_and_shows_them(qtbot: QtBot, seen: Frame) -> None:
    frame = seen
    click(qtbot, frame, "confidence of scores")
    scores, slider = scores_of(frame), child(frame, QSlider, "threshold")
    sure = sorted(answer.probability for answer in scores.answers)
    slider.setValue(round(sure[len(sure) // 2] * 100))
    threshold = slider.value() / 100
    accepted = [answer for answer in scores.answers if answer.probability >= threshold]
    cost = child(frame, QLabel, "threshold says").text()
    assert f"{len(accepted) / scores.images * 100:.1f}" in cost
    left, wrong = (sum(a.predicted != a.true for a in answers) for answers in (accepted, scores.answers))
    assert f"{left} of {wrong} mistakes are left" in cost
    assert "expected calibration error" in child(frame, QLabel, "confidence says").text()
    assert sum(each.images for each in child(frame, BinBars, "confidence bars").bins) == scores.images
    by_place = {answer.image - 1: answer for answer in scores.answers}
    click(qtbot, frame, "show withheld")
    shown = [by_place[place].probability for place in places(frame)]
    assert shown == sorted(value for value in sure if value < threshold)
    click(qtbot, frame, "show wrong and sure")
    wrong = [by_place[place] for place in places(frame)]
    assert all(answer.predicted != answer.true for answer in wrong)
    assert [a.probability for a in wrong] == sorted((a.probability for a in wrong), reverse=True)
    click(qtbot, frame, "show right but unsure")
    fine = [by_place[place] for place in places(frame)]
    assert all(answer.predicted == answer.true for answer in fine)
    assert len(fine) + len(wrong) == scores.images


def test_a_temperature_is_kept_in_the_model_and_taken_out(qtbot: QtBot, frame: Frame, tmp_path: Path) -> None:
    click(qtbot, frame, "confidence of scores")
    before = scores_of(frame)
    assert before.temperature is not None
    click(qtbot, frame, "keep temperature")
    says = child(frame, QLabel, "message")
    qtbot.waitUntil(lambda: f"temperature of {before.temperature:.2f}" in says.text(), timeout=60_000)
    qtbot.waitUntil(lambda: frame.session.scores.current not in (None, before), timeout=60_000)
    assert scores_of(frame).temperature == pytest.approx(1, abs=0.02)
    click(qtbot, frame, "take temperature out")
    qtbot.waitUntil(lambda: frame.session.scores.current == before, timeout=60_000)
    click(qtbot, frame, "overview of scores")
    click(qtbot, frame, "verify scores")
    result = child(frame, QLabel, "overview found")
    qtbot.waitUntil(lambda: "to the last bit" in result.text(), timeout=60_000)
    assert repr(before.loss) in result.text()
    view = child(frame, OverviewView, "overview view")
    view.write_report(tmp_path / "report.html")
    qtbot.waitUntil(lambda: "Written to" in result.text(), timeout=90_000)
    assert (tmp_path / "report.html").read_text("utf-8").startswith("<!doctype html>")
    for kind in (".svg", ".png"):
        save_picture(child(frame, AccuracyBars, "set bars"), tmp_path / f"bars{kind}")
    assert "training" in (tmp_path / "bars.svg").read_text("utf-8")
    with pytest.raises(LensError, match="ending"):
        save_picture(frame, tmp_path / "bars.bmp")
    with pytest.raises(LensError, match="could not be written"):
        save_picture(frame, tmp_path / "none" / "bars.svg")


def test_another_run_is_compared_image_by_image(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> None:
    other = station.run(1).plan().changed({"training.epochs": 1, "optimiser.learning_rate": 0.01})
    renamed = next(each for each in manifest(station, station.run(1)) if each.set == "test")
    names = station.catalogue.classes()
    station.catalogue.correct({renamed.image: Correction(label=int(names[0] == renamed.label))})
    finish(execute(station, station.claim_run(other), lambda: False))
    frame = open_frame(station)
    frame.session.runs.choose(2)
    stage(qtbot, frame, "results")
    qtbot.waitUntil(lambda: frame.session.scores.current is not None, timeout=30_000)
    click(qtbot, frame, "against of scores")
    assert child(frame, QComboBox, "against run").count() == 1
    table = child(frame, QTableWidget, "against table")
    qtbot.waitUntil(lambda: table.rowCount() > 0, timeout=30_000)
    mine, theirs = scores_of(frame), frame.session.scores.of(1)
    assert theirs is not None
    result = paired(theirs, mine)
    apart = child(frame, QLabel, "against images differ")
    qtbot.waitUntil(apart.isVisible, timeout=30_000)
    assert apart.text() == f"1 image with another label in run 2 than in run 1: {renamed.image}."
    says = child(frame, QLabel, "against says").text()
    assert f"run 2 fixes {len(result.fixed)} mistakes of run 1, makes {len(result.broken)} new ones" in says
    for words, numbers in (
        ("fixed", result.fixed),
        ("newly broken", result.broken),
        ("still wrong", result.still_wrong),
    ):
        shown = child(frame, QPushButton, f"show {words}")
        assert shown.text().endswith(f" · {len(numbers)}")
        assert shown.isEnabled() == bool(numbers)
        if numbers:
            qtbot.mouseClick(shown, LEFT)
            assert set(places(frame)) == {number - 1 for number in numbers}
    sheet = child(frame, ContactSheet, "against sheet")
    counts = [len(numbers) for numbers in (result.fixed, result.broken, result.still_wrong) if numbers]
    assert [len(group.places) for group in sheet.groups] == counts
    if result.broken:
        group = next(group for group in sheet.groups if group.title.startswith("Newly broken"))
        said = {answer.image: mine.classes[answer.predicted] for answer in mine.answers}
        assert group.captions == tuple(f"now {said[number]}" for number in result.broken)
    drawn = child(frame, UnitSquare, "curves of both").lines
    views = frame.session.runs.views
    for line, number in zip(drawn, (2, 1), strict=True):
        known = [epoch.validation.accuracy for epoch in views[number].epochs if epoch.validation is not None]
        assert line.points[:, 1].tolist() == known
    fixed = [int(table.item(row, 2).text().replace("–", "0")) for row in range(table.rowCount())]
    assert sum(fixed) == len(result.fixed)


def test_slices_are_found_and_lead_to_their_images(qtbot: QtBot, seen: Frame) -> None:
    frame = seen
    click(qtbot, frame, "slices of scores")
    table, says = child(frame, QTableWidget, "slices table"), child(frame, QLabel, "slices say")
    qtbot.waitUntil(lambda: "slices" in says.text(), timeout=30_000)
    result = finish(carry_out(FindSlices(str(frame.session.workspace.folder), 1)))
    answers = {answer.image: answer for answer in scores_of(frame).answers}
    assert table.rowCount() == len(result.slices)
    assert "folder" not in {each.by for each in result.slices}, "each holds one class"
    for row, each in enumerate(result.slices[:3]):
        table.selectRow(row)
        assert [table.item(row, column).text() for column in range(3)] == [each.by, each.name, str(each.right.of)]
        assert set(places(frame)) == {number - 1 for number in each.members.tolist()}
        assert each.right.count == sum(answers[n].predicted == answers[n].true for n in each.members.tolist())


def test_a_view_below_another_is_in_the_list_while_one_of_the_two_is_open(qtbot: QtBot, shared: Frame) -> None:
    stage(qtbot, shared, "results")
    page = shared.page("results")
    assert isinstance(page, ResultsPage)
    below = {word: view.under for word, view in VIEWS.items() if view.under}
    assert below == {"costs": "confidence", "objects": "robustness"}

    def listed() -> list[str]:
        return [word for word, entry in page.views.items() if not entry.isHidden()]

    page.show_view("overview")
    first = listed()
    for word, parent in below.items():
        assert word not in first
        for opened in (parent, word):
            page.show_view(opened)
            assert listed() == [each for each in VIEWS if each in (*first, word)]
        assert list(VIEWS).index(word) == list(VIEWS).index(parent) + 1, "right below it"
    page.show_view("overview")
    assert listed() == first
