"""From a cause to its remedy, a new run and the case tried again, in the real window, and how many clicks it takes."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QPushButton, QTableWidget
from pytestqt.qtbot import QtBot
from tests.answering import answer
from tests.driving import LEFT, child

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_demo
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.training.executing import execute
from attentive_lens.plan.plan import Plan
from attentive_lens.window.explaining.causes import CausesPanel
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.parts.basics import OneLine
from attentive_lens.workspace import Workspace

IMAGES, SEED = 600, 3
PLAN = {
    "network": "two blocks",
    "preprocessing.input_size": 32,
    "training.epochs": 12,
    "training.batch_size": 16,
    "optimiser.learning_rate": 0.003,
}
MOST_CLICKS = 11


def test_the_dot_of_ink_is_found_masked_and_tried_again_in_eleven_clicks(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], tmp_path: Path
) -> None:
    station = finish(make_demo(tmp_path / "pollen", IMAGES, SEED)).workspace
    finish(execute(station, station.claim_run(Plan().changed(PLAN)), lambda: False))
    frame = open_frame(station)
    clicks: list[str] = []

    def press(name: str, until: Callable[[], bool], seconds: int = 30) -> None:
        button = frame.rail.buttons.get(name) or child(frame, QPushButton, name)
        qtbot.waitUntil(button.isEnabled, timeout=30_000)
        qtbot.mouseClick(button, LEFT)
        clicks.append(name)
        qtbot.waitUntil(until, timeout=seconds * 1000)

    session = frame.session
    press("results", lambda: session.scores.current is not None)
    press("score test", lambda: session.scores.on == "test" and session.scores.current is not None)
    page = frame.page("explain")
    assert isinstance(page, ExplainPage)
    press("explain", lambda: page.explanation is not None)
    press("evidence causes", lambda: bool(page.evidence.of(CausesPanel).groups), 60)
    group = page.evidence.of(CausesPanel).groups[0]
    assert (group.kind, set(group.predicted)) == ("place", {"spiny"})
    assert group.place is not None
    assert group.place.row > 0.7
    assert group.place.column < 0.3, "the dot is at the bottom left"
    (mask, *_) = group.remedies
    assert (mask.kind, mask.turned) == ("cover", group.figures["mended"])
    press("cause 0", lambda: page.image in group.images)
    qtbot.waitUntil(lambda: page.explanation is not None and page.explanation.image == page.image, timeout=30_000)
    press("open case", lambda: len(session.cases.book.cases) == 1)
    press("remedy 0 cover", lambda: frame.current == "training")
    assert session.cases.book.cases[0].remedy == "mask the place"
    assert session.design.plan.augmentation[0].kind == "mask a place"
    press("main action", lambda: session.runs.current == 2 and session.runs.view.state == "done", 120)  # type: ignore[union-attr]
    press("explain", lambda: frame.current == "explain")
    result = page.book
    press("case book", lambda: result.result is not None and len(result.result.cases[0].answers) == 2, 60)
    assert len(clicks) <= MOST_CLICKS, clicks

    before, after = (answer(Score(str(station.folder), run, "test")) for run in (1, 2))
    still = {each.image for each in after.wrong}
    fixed = [image for image in group.images if image not in still]
    assert after.accuracy > before.accuracy
    assert len(fixed) >= len(group.images) / 4
    assert result.result is not None
    (tried,) = result.result.cases
    assert [each.right for each in tried.answers] == [False, tried.case.image in fixed]
    assert child(frame, OneLine, "case status").text() == f"{tried.status}: {tried.words}"
    assert {"train", "find", "explain", "act"} <= frame.loop.done, "the strip of steps has followed"

    # Whether it was the remedy is told by the unchanged plan, trained again.
    frame.show_stage("training")
    frame.page("training").show_view("all runs")
    table = child(frame, QTableWidget, "runs table")
    table.selectRow(next(row for row in range(table.rowCount()) if table.item(row, 0).text() == "1"))
    press("repeat run", lambda: 3 in session.runs.views and session.runs.views[3].state == "done", 120)
    frame.show_stage("explain")
    page.show_view("case book")
    qtbot.waitUntil(lambda: result.result is not None and len(result.result.cases[0].answers) == 3, timeout=60_000)
    (tried,) = result.result.cases
    assert tried.status in ("fixed", "still wrong", "no better than unchanged")
    assert ("prove" in frame.loop.done) is (tried.status == "fixed")
