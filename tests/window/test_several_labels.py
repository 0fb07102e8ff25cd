"""Several labels through the real window: looked through, told label by label, explained, corrected."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QApplication, QComboBox, QLabel, QMenu, QTableWidget
from pytestqt.qtbot import QtBot
from tests.driving import child, click, said, stage
from tests.window.fitting import unreadable

from attentive_lens.core.numbering import RunNumber
from attentive_lens.plan.labels import labels_in
from attentive_lens.window.explaining.hero import ExplainHero
from attentive_lens.window.frame import Frame
from attentive_lens.window.images.classes_box import ClassesBox
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.pages.results import ResultsPage
from attentive_lens.window.pages.training import TrainingPage
from attentive_lens.window.parts.bars import ROW, Bars
from attentive_lens.window.parts.decisions import Decisions
from attentive_lens.window.parts.matrix import ConfusionMatrix
from attentive_lens.window.results.labels import LabelsView
from attentive_lens.window.results.new_images import NewImagesView, groups_of
from attentive_lens.workspace import Workspace

LABELS = ["furrowed", "netted", "smooth", "spiny", "triangular", "winged"]


def results(qtbot: QtBot, frame: Frame) -> tuple[ResultsPage, LabelsView]:
    stage(qtbot, frame, "results")
    page = frame.page("results")
    assert isinstance(page, ResultsPage)
    qtbot.waitUntil(lambda: frame.session.scores.current is not None, timeout=30_000)
    view = page.view(LabelsView)
    qtbot.waitUntil(lambda: view.scores is not None, timeout=30_000)
    return page, view


def test_results_begin_with_all_labels_and_a_row_is_what_all_else_is_about(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], fields: Workspace
) -> None:
    frame = open_frame(fields)
    page, view = results(qtbot, frame)
    session, chooser, table = frame.session, child(frame, QComboBox, "label in view"), view.table
    assert page.word == "labels" and chooser.isVisible()
    assert [chooser.itemText(k) for k in range(chooser.count())] == [f"about {name}" for name in LABELS]
    assert session.runs.in_view == RunNumber(1, "furrowed")
    assert table.rowCount() == 6 and not table.isColumnHidden(0)
    assert "Mean average precision" in said(frame, "labels say")
    assert view.scores is not None
    for row in range(6):
        item = table.item(row, 0)
        assert item is not None
        if item.text().startswith("smooth"):
            table.selectRow(row)
    assert session.runs.asks_about == "smooth" and chooser.currentText() == "about smooth"
    qtbot.waitUntil(lambda: session.scores.current is not None, timeout=30_000)
    scores = session.scores.current
    assert scores is not None and scores.classes == ("not smooth", "smooth")
    own = next(each for each in view.scores.by_label if each.name == "smooth")
    assert set(session.scores.mistakes()) == {*own.missed, *own.false}
    qtbot.waitUntil(lambda: "«smooth»" in said(frame, "results about"), timeout=10_000)
    assert f"{len(own.missed)} missed, {len(own.false)} falsely said" in said(frame, "results about")
    chooser.setCurrentIndex(LABELS.index("spiny"))
    chooser.activated.emit(LABELS.index("spiny"))
    qtbot.waitUntil(lambda: table.currentRow() >= 0 and _row(table).startswith("spiny"), timeout=10_000)
    for word in page.views:
        if page.views[word].isVisible():
            page.show_view(word)
            page.grab()


def _row(table: QTableWidget) -> str:
    item = table.item(table.currentRow(), 0)
    return item.text() if item is not None else ""


def test_two_labels_lead_to_their_images_and_thresholds_are_chosen(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], fields: Workspace
) -> None:
    frame = open_frame(fields)
    _, view = results(qtbot, frame)
    scores, matrix = view.scores, child(frame, ConfusionMatrix, "labels together")
    assert scores is not None
    for way, counts in (
        ("on images", scores.together),
        ("said", scores.said_together),
        ("exchanged", scores.exchanged),
    ):
        click(qtbot, frame, f"labels {way}")
        assert matrix.counts.tolist() == [list(row) for row in counts]
        matrix.grab()
        cells = [(a, b) for a in range(6) for b in range(6) if counts[a][b] != counts[b][a]] or [(0, 2)]
        with qtbot.waitSignal(view.chosen) as chosen:
            matrix.choose(*cells[0])
        assert len(chosen.args[1]) == counts[cells[0][0]][cells[0][1]]
    by = child(frame, QComboBox, "thresholds by")
    by.setCurrentText("fixed")
    by.activated.emit(by.currentIndex())
    assert view.forms["fixed"].isVisibleTo(view) and not view.forms["cost"].isVisibleTo(view)
    before = {each.name: each.threshold for each in scores.by_label}
    view.rule = view.rule.with_(value=0.75)
    click(qtbot, frame, "choose threshold")
    qtbot.waitUntil(lambda: view.scores is not scores and view.scores is not None, timeout=30_000)
    assert view.scores is not None
    after = {each.name: each.threshold for each in view.scores.by_label}
    assert after == {**before, "furrowed": 0.75}
    assert "macro F1" in said(frame, "thresholds worth")
    by.setCurrentText("F1")
    by.activated.emit(by.currentIndex())
    click(qtbot, frame, "choose thresholds")
    qtbot.waitUntil(lambda: view.scores is not None and view.scores.by_label[0].threshold != 0.75, timeout=30_000)


def test_an_explanation_shows_every_label_and_a_bar_leads_to_its_own(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], fields: Workspace
) -> None:
    frame = open_frame(fields)
    results(qtbot, frame)
    stage(qtbot, frame, "explain")
    page = frame.page("explain")
    assert isinstance(page, ExplainPage)
    image = 5
    page.open_image(image)
    qtbot.waitUntil(lambda: page.explanation is not None and page.explanation.image == image, timeout=60_000)
    assert page.explanation is not None and len(page.explanation.labels) == 6
    bars = child(page, Bars, "answers")
    assert sorted(bar.name.split(" · ")[0] for bar in bars.bars) == LABELS
    assert page.findChild(ExplainHero) is not None
    at = next(k for k, bar in enumerate(bars.bars) if bar.name.startswith("winged"))
    qtbot.mouseClick(bars, Qt.MouseButton.LeftButton, pos=QPoint(40, at * ROW + ROW // 2))
    assert frame.session.runs.asks_about == "winged"
    qtbot.waitUntil(lambda: page.explanation is not None and "winged" in page.explanation.probabilities, timeout=60_000)


def test_labels_are_looked_through_given_and_taken(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], fields: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    frame = open_frame(fields)
    stage(qtbot, frame, "images")
    session = frame.session
    collection = session.images.collection
    browser = frame.page("images").browser  # type: ignore[attr-defined]
    assert [bar.name for bar in browser.class_bars.bars] == [*LABELS, "no label"]
    browser._choose_class(1)
    shown = [int(place) for group in browser.shown for place in group.places]
    assert shown and all("netted" in labels_in(collection.classes[collection.rows[k].label]) for k in shown)
    decisions = browser.details.findChild(Decisions)
    assert decisions is not None
    decisions.show_images((shown[0], shown[1]))
    menus: list[QMenu] = []
    monkeypatch.setattr(Decisions, "_popup", lambda self, menu, under: menus.append(menu))
    decisions._ask_label()
    actions = {action.text().lstrip("&0123456789 "): action for action in menus[0].actions()}
    assert actions["netted"].isChecked() and set(LABELS) <= set(actions) and "no label" not in actions
    actions["netted"].trigger()
    for place in shown[:2]:
        rows = session.images.collection
        assert "netted" not in labels_in(rows.classes[rows.rows[place].label])
    decisions.put_label("dusty", True)
    assert "dusty" in session.images.collection.kinds
    session.step_back()
    session.step_back()
    assert "dusty" not in session.images.collection.kinds
    rows = session.images.collection
    assert all("netted" in labels_in(rows.classes[rows.rows[place].label]) for place in shown[:2])


def test_a_label_is_left_out_renamed_and_merged(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], fields: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    frame = open_frame(fields)
    box = ClassesBox(frame.session)
    qtbot.addWidget(box)
    assert [box.classes.itemData(k) for k in range(box.classes.count())] == LABELS
    assert box.says.text().startswith("6 labels will be learned.")
    box.classes.setCurrentIndex(1)
    click(qtbot, box, "leave class out")
    box.refresh()
    assert box.says.text().startswith("5 labels will be learned.")
    path = "attentive_lens.window.images.classes_box.QInputDialog"
    monkeypatch.setattr(f"{path}.getText", lambda *_, **__: ("reticulate", True))
    click(qtbot, box, "rename class")
    assert "reticulate" in frame.session.images.collection.kinds
    box.refresh()
    box.classes.setCurrentIndex(box.classes.findData("reticulate"))
    monkeypatch.setattr(f"{path}.getItem", lambda *_, **__: ("smooth", True))
    click(qtbot, box, "merge class")
    assert "reticulate" not in frame.session.images.collection.kinds


def test_a_run_that_answers_classes_has_no_label_to_choose(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], station: Workspace
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "results")
    page = frame.page("results")
    assert isinstance(page, ResultsPage)
    assert page.word == "overview" and not page.views["labels"].isVisible()
    assert child(frame, QComboBox, "label in view").isHidden()
    assert frame.session.runs.in_view == 1


def test_new_images_stand_under_all_labels_that_are_said_and_lead_to_one(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], fields: Workspace
) -> None:
    frame = open_frame(fields)
    page, _ = results(qtbot, frame)
    page.show_view("new images")
    view = page.view(NewImagesView)
    files = sorted((fields.folder / "fields").glob("*.png"))[:12]
    view.open_places(files)
    qtbot.waitUntil(lambda: view.result is not None and len(view.result.answers) == 12, timeout=60_000)
    assert view.result is not None
    groups = groups_of(view.result.answers, ())
    assert sorted(place for group in groups for place in group.places) == list(range(12)), "each stands somewhere"
    assert {group.title.split(" · ")[0] for group in groups} == {f"said {a.predicted}" for a in view.result.answers}
    view.details.show_answer(view.result.answers[0], None)
    with qtbot.waitSignal(frame.session.file_asked) as sent:
        view.details.explain()
    about = frame.session.runs.asks_about
    assert sent.args[0] == str(files[0]) and sent.args[1] in (about, f"not {about}")
    explain = frame.page("explain")
    assert isinstance(explain, ExplainPage)
    qtbot.waitUntil(lambda: explain.explanation is not None and explain.explanation.image is None, timeout=60_000)
    assert explain.explanation is not None and set(explain.explanation.probabilities) == {about, f"not {about}"}


def test_training_shows_what_several_labels_have_and_nothing_of_one_class(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], fields: Workspace
) -> None:
    frame = open_frame(fields)
    stage(qtbot, frame, "training")
    page = frame.page("training")
    assert isinstance(page, TrainingPage)
    assert not page.views["answers"].isVisible() and page.views["curves"].isVisible()
    measures = [page.curves.measure.itemText(k) for k in range(page.curves.measure.count())]
    assert "exact match" in measures and "mean average precision" in measures and "netted" not in measures
    frame.grab()


def test_a_plan_that_takes_sets_for_classes_says_so(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], fields: Workspace
) -> None:
    frame = open_frame(fields)
    stage(qtbot, frame, "training")
    caution = child(frame, QLabel, "labels caution")
    assert caution.isHidden()
    design = frame.session.design
    design.change(design.plan.changed({"task": "classify"}), "the task")
    qtbot.waitUntil(lambda: not caution.isHidden())
    assert "task=multi-label" in caution.text()


def test_nothing_is_cut_in_a_small_window_whatever_the_rule(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], fields: Workspace
) -> None:
    frame = open_frame(fields)
    frame.resize(1100, 680)
    _, view = results(qtbot, frame)
    for rule in ("F1", "cost", "precision", "fixed"):
        view.by.setCurrentText(rule)
        view.by.activated.emit(view.by.currentIndex())
        frame.grab()
        QApplication.processEvents()
        assert not list(unreadable(view)), rule
