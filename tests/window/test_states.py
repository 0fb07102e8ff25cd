"""The window in states a first run does not show: failed and broken runs, a lost helper, many classes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QLabel, QPushButton
from pytestqt.qtbot import QtBot

from attentive_lens.desk.requests.causes import Cause, CausesFound, Remedy
from attentive_lens.plan.plan import Plan
from attentive_lens.training.journal import Journal
from attentive_lens.window.explaining.causes import CausesPanel
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.parts.chart import Chart, Curve
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]


def text(frame: Frame, name: str) -> str:
    result = frame.findChild(QLabel, name)
    assert result is not None, name
    return result.text()


def ended(station: Workspace, state: str | None, **more: Any) -> int:
    """A run that ended so, or whose process died without an end."""
    run = station.claim_run(Plan())
    with Journal(run.journal) as journal:
        journal.write("start", plan="three blocks", epochs=9)
        if state is not None:
            journal.write("end", state=state, **more)
    return run.number


def test_a_failed_run_says_its_reason_over_its_curves(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> None:
    number = ended(station, "failed", error="The loss is no longer a number: take a smaller rate.")
    frame = open_frame(station)
    frame.session.runs.choose(number)
    frame.show_stage("training")
    assert text(frame, "training title") == f"Run {number} failed"
    assert "no longer a number" in text(frame, "training problem")
    frame.show_stage("results")
    go = frame.findChild(QPushButton, "go to training")
    assert go is not None
    assert go.isVisible()


def test_a_run_whose_process_died_is_shown_as_broken_off(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    number = ended(station, None)
    frame = open_frame(station)
    frame.session.runs.choose(number)
    frame.show_stage("training")
    assert text(frame, "training title") == f"Run {number} broke off"
    assert frame.rail.buttons["training"].state == "broken off"
    action = frame.findChild(QPushButton, "main action")
    assert action is not None
    assert action.text() == "Start training"


def test_a_helper_that_dies_is_started_anew_and_answers_again(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    qtbot.waitUntil(lambda: bool(frame.session.scores.mistakes()), timeout=30_000)
    resident = frame.session.asker._resident
    assert resident is not None
    resident.process.kill()
    qtbot.waitUntil(lambda: "started anew" in text(frame, "message"), timeout=10_000)
    qtbot.waitUntil(lambda: frame.session.asker._resident not in (None, resident), timeout=10_000)
    frame.session.explain_asked.emit(frame.session.scores.mistakes()[0])
    qtbot.waitUntil(lambda: text(frame, "predicted name") != "", timeout=30_000)


def test_an_error_of_the_helper_is_a_sentence_in_the_bottom_strip(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    frame.session.explain_asked.emit(4711)
    qtbot.waitUntil(lambda: "There is no image 4711" in text(frame, "message"), timeout=30_000)


def test_background_work_is_told_and_taken_back(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> None:
    frame = open_frame(station)
    frame.session.worked.emit("scoring test images", 3, 9)
    assert text(frame, "background work") == "scoring test images"
    assert frame.bottom.work_bar.isVisible()
    frame.session.worked.emit("", 0, 0)
    assert text(frame, "background work") == ""
    assert not frame.bottom.work_bar.isVisible()


def test_a_value_is_read_under_the_mouse(qtbot: QtBot) -> None:
    chart = Chart("Accuracy", "%", "chart")
    qtbot.addWidget(chart)
    chart.resize(500, 240)
    chart.show_curves((Curve("validation", tuple((float(k), k / 10) for k in range(1, 11)), "petrol"),), 10)
    chart.show()
    plain = chart.grab().toImage()
    place = chart.area().center()
    button = Qt.MouseButton.NoButton
    event = QMouseEvent(
        QMouseEvent.Type.MouseMove, QPointF(place), QPointF(place), button, button, Qt.KeyboardModifier.NoModifier
    )
    chart.mouseMoveEvent(event)
    assert chart.grab().toImage() != plain
    chart.leaveEvent(None)
    assert chart.grab().toImage() == plain


def test_what_is_said_of_a_cause_stands_under_it_and_a_long_folder_fits(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    frame.session.runs.choose(1)
    frame.show_stage("explain")
    panel = frame.findChild(CausesPanel)
    assert panel is not None
    folder = "the folder " + "a very long name of a folder " * 6
    remedy = Remedy("cover", "Mask the place", "Covering it turns 1 of 1", 1.0, Plan().write())
    causes = tuple(
        Cause(kind, short, (k + 1,), {"spiny": 1}, f"1 mistake of kind {k}", "Look", {}, None, None, 1 / 3, remedies)
        for k, (kind, short, remedies) in enumerate(
            (
                ("place", "rest on one place", (remedy,)),
                ("origin", f"are from {folder}", ()),
                ("other", "rest on the things themselves", ()),
            )
        )
    )
    explain_page = frame.page("explain")
    assert isinstance(explain_page, ExplainPage)
    explain_page.evidence.open(CausesPanel)
    explain_page.open_image(1)
    qtbot.waitUntil(panel.isVisible, timeout=30_000)
    panel.forget()
    panel._take(CausesFound(1, frame.session.scores.on, 3, causes))
    qtbot.waitUntil(lambda: "…" in panel.rows[1].title.text(), timeout=5_000)
    assert panel.rows[1].title.text().startswith("1 are from the folder a")
    assert panel.rows[1].width() <= panel.width()
    for number in (1, 0, 2):
        panel.rows[number].title.click()
        assert panel.note.text() == f"1 mistake of kind {number}. Look."
        assert [row.title.isChecked() for row in panel.rows] == [k == number for k in range(3)]
        assert len(panel.rows[number].remedies) == int(number == 0)
    panel._take(CausesFound(1, frame.session.scores.on, 3, causes[:1]))
    assert len(panel.rows) == 1
