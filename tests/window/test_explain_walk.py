"""Walking through images in the Explain stage: the strip, chosen images, remedies of causes, notes, saved maps."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QFileDialog, QMenu, QPushButton
from pytestqt.qtbot import QtBot
from tests.answering import answer, by
from tests.driving import LEFT, child, click, stage
from tests.window.test_explain_stage import folder_of

from attentive_lens.desk.requests.causes import Cause, CausesFound, Remedy
from attentive_lens.desk.requests.explaining import Explain
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.window.explaining.alike import AlikePanel
from attentive_lens.window.explaining.causes import CausesPanel
from attentive_lens.window.explaining.filters import FiltersPanel
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.pages.results import ResultsPage
from attentive_lens.window.parts.lens import Lens
from attentive_lens.window.parts.map_scale import MapScale
from attentive_lens.window.parts.sheet import ContactSheet


def test_the_strip_leads_from_mistake_to_mistake(qtbot: QtBot, shared: Frame, page: ExplainPage) -> None:
    strip = child(shared, ContactSheet, "image strip")
    mistakes = shared.session.scores.mistakes()
    assert [place + 1 for group in strip.groups for place in group.places] == list(mistakes)
    assert strip.current == mistakes[0] - 1
    qtbot.keyClick(strip, Qt.Key.Key_Down)
    qtbot.waitUntil(lambda: page.image == mistakes[1], timeout=30_000)
    click(qtbot, shared, "next mistake")
    qtbot.waitUntil(lambda: strip.current == mistakes[2 % len(mistakes)] - 1, timeout=30_000)


def test_a_missing_kind_is_one_key_from_a_note(qtbot: QtBot, shared: Frame, page: ExplainPage) -> None:
    click(qtbot, shared, "evidence alike")
    panel = page.evidence.of(AlikePanel)
    qtbot.waitUntil(lambda: panel.result is not None, timeout=30_000)
    click(qtbot, shared, "maps of neighbours")
    numbers = {each.image for rows in panel.result.near.values() for each in rows}  # type: ignore[union-attr]
    qtbot.waitUntil(lambda: numbers <= panel.maps.keys(), timeout=30_000)
    number = min(numbers)
    wanted = answer(Explain(RunImage(folder_of(shared), 1, number), by("gradient_times_input"))).maps[0].values
    assert panel.maps[number] == pytest.approx(wanted, abs=1e-4 * float(np.abs(wanted).max()))
    sheet = child(shared, ContactSheet, "neighbours sheet")
    assert {place + 1 for place in sheet.maps} >= numbers
    over = sheet.grab().toImage()
    click(qtbot, shared, "maps of neighbours")
    assert sheet.maps == {}
    assert sheet.grab().toImage() != over
    qtbot.keyClick(panel, Qt.Key.Key_M)
    case = shared.session.cases.book.of_image(page.image or 0)
    assert case is not None
    assert case.note.startswith("training images like this one are missing")
    assert shared.findChild(QPushButton, "kind is missing").isEnabled()


def test_a_remedy_relabels_shows_images_to_decide_about_or_stands_with_their_cases(
    qtbot: QtBot, shared: Frame, page: ExplainPage
) -> None:
    panel, images = page.evidence.of(CausesPanel), shared.session.images
    click(qtbot, shared, "evidence causes")
    click(qtbot, shared, "view of mistakes")
    panel.forget()
    mistakes = shared.session.scores.mistakes()[:3]
    rows = images.collection.rows
    gone, stored = images.collection.classes[:2]
    remedies = (
        Remedy("merge", f"Make {gone} part of {stored}", "As one class 3 of 3", 1.0, merges=(gone, stored)),
        Remedy("collect", "Collect such images", "Not tried: only training tells. Wanted are more"),
        Remedy("decide", "Look at each", "One by one"),
    )
    group = Cause("overlap", "confuse two", tuple(mistakes), {stored: 3}, "why", "what", {}, None, None, 1.0, remedies)
    panel._take(CausesFound(1, shared.session.scores.on, 3, (group,)))
    qtbot.waitUntil(lambda: bool(panel.rows[0].pictures.pictures), timeout=10_000)
    row = panel.rows[0].pictures
    qtbot.mouseClick(row, LEFT, pos=QPoint(row.side + 4 + 5, 5))
    qtbot.waitUntil(lambda: page.image == mistakes[1], timeout=30_000)
    assert page.walked == list(mistakes)
    qtbot.waitUntil(lambda: page.explanation is not None and page.explanation.image == mistakes[1], timeout=30_000)
    page.case.open_case()
    click(qtbot, shared, "remedy 0 collect")
    assert shared.session.cases.book.of_image(mistakes[1]).remedy == "collect such images"
    before = [each.label for each in rows]
    click(qtbot, shared, "remedy 0 merge")
    one, other = (images.collection.classes.index(name) for name in (gone, stored))
    after = [each.label for each in images.collection.rows]
    assert after == [other if label == one else label for label in before]
    images.undo()
    assert [each.label for each in images.collection.rows] == before
    click(qtbot, shared, "remedy 0 decide")
    sheet = child(shared, ContactSheet, "cause sheet")
    assert [place + 1 for part in sheet.groups for place in part.places] == list(mistakes)
    sheet.select(mistakes[0] - 1)
    assert panel.decisions.places == (mistakes[0] - 1,)
    qtbot.keyClick(panel, Qt.Key.Key_F)
    assert images.collection.rows[mistakes[0] - 1].flagged
    click(qtbot, shared, "all causes")
    assert panel.pages.currentIndex() == 0
    panel.choose(0)


def test_images_chosen_in_the_results_are_walked_through(qtbot: QtBot, shared: Frame, page: ExplainPage) -> None:
    results = shared.page("results")
    assert isinstance(results, ResultsPage)
    stage(qtbot, shared, "results")
    results.behind.wrong()
    wanted = [place + 1 for part in results.chosen.parts for place in part.places]
    assert len(wanted) > 2
    results._open(wanted[2] - 1)
    qtbot.waitUntil(lambda: shared.current == "explain" and page.image == wanted[2], timeout=30_000)
    assert page.walked == wanted
    assert list(page.strip.images) == wanted
    page.walk_through([])


def test_a_map_is_saved_from_its_menu_and_a_place_that_cannot_be_written_is_said(
    shared: Frame, page: ExplainPage, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    messages: list[tuple[str, bool]] = []
    shared.session.message.connect(lambda sentence, bad: messages.append((sentence, bad)))
    lens = child(shared, Lens, "lens predicted")
    for file, bad in ((tmp_path / "map.npy", False), (tmp_path / "nowhere" / "map.npy", True)):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, file=file: (str(file), ""))
        lens.customContextMenuRequested.emit(QPoint(5, 5))
        menu = lens.findChildren(QMenu, "picture menu")[-1]
        picture, values = menu.actions()
        values.trigger()
        menu.close()
        assert messages[-1][1] is bad
        assert str(file) in messages[-1][0]
    shown = page.explanation
    assert shown is not None
    assert np.array_equal(np.load(tmp_path / "map.npy"), shown.maps[0].values)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "map.svg"), ""))
    picture.trigger()
    drawn = (tmp_path / "map.svg").read_text("utf-8")
    scale = child(shared, MapScale, "scale predicted")
    assert f'viewBox="0 0 {lens.width()} {lens.height() + scale.height() + 4}"' in drawn, "with its scale below"
    assert f">{scale.ends[1]}<" in drawn.replace("\n", "").replace(" <", "<").replace("> ", ">")


def test_what_was_found_in_images_painted_over_is_forgotten(qtbot: QtBot, shared: Frame, page: ExplainPage) -> None:
    filters, neighbours = page.evidence.of(FiltersPanel), page.evidence.of(AlikePanel)
    click(qtbot, shared, "evidence layers")
    click(qtbot, shared, "view filters")
    qtbot.waitUntil(lambda: filters.rows.seen is not None, timeout=60_000)
    click(qtbot, shared, "evidence alike")
    qtbot.waitUntil(lambda: neighbours.result is not None, timeout=30_000)
    shared.session.images.repainted.emit([1])
    assert filters.rows.seen is None
    assert neighbours.result is None
    click(qtbot, shared, "evidence layers")
    click(qtbot, shared, "view filters")
    qtbot.waitUntil(lambda: filters.rows.seen is not None, timeout=60_000)
