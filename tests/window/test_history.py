"""One history for all stages: what was done last is taken back first, wherever it was done."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import Phase, settings
from hypothesis import strategies as st
from hypothesis.stateful import (
    RuleBasedStateMachine,
    initialize,
    invariant,
    rule,
    run_state_machine_as_test,
)
from PIL import Image
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QPushButton
from pytestqt.qtbot import QtBot
from tests.conftest import small_plan
from tests.driving import child, stage

from attentive_lens.desk.images.curating import flagged, moved
from attentive_lens.plan.plan import Plan
from attentive_lens.window.frame import Frame
from attentive_lens.window.session import Session
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.about import About
from attentive_lens.workspace.corrections import NOTHING


def look(session: Session) -> tuple[object, ...]:
    """All that can be undone, as it is now."""
    return (
        session.design.drawn,
        dict(session.images.curating.state),
        session.cases.book,
        tuple(sorted(session.runs.views)),
        tuple(session.workspace.run(run).about() for run in sorted(session.runs.views)),
        dict(session.workspace.catalogue.copies()),
        tuple(row.given_set for row in session.images.library.rows[90:]),
    )


def without_later(now: tuple[object, ...], then: tuple[object, ...]) -> tuple[object, ...]:
    """What there is now but for images that were added since and are all out again."""
    added, before = list(now[-1]), list(then[-1])  # type: ignore[call-overload]
    later = set(added[len(before) :])
    return (*now[:-1], tuple(added[: len(before)])) if later <= {"gone"} else now


@pytest.fixture(scope="module")
def station_with_runs(station_once: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("history") / "pollen"
    workspace = Workspace.open(Path(shutil.copytree(station_once, folder)))
    for _ in range(2):
        shutil.copytree(folder / "runs" / "0001", folder / "runs" / f"{len(workspace.runs()) + 1:04d}")
    return folder


def test_any_order_of_deeds_is_taken_back_and_done_again(
    station_with_runs: Path, tmp_path_factory: pytest.TempPathFactory, qapp: object
) -> None:
    class Deeds(RuleBasedStateMachine):
        @initialize()
        def begin(self) -> None:
            self.folder = tmp_path_factory.mktemp("deeds") / "pollen"
            shutil.copytree(station_with_runs, self.folder)
            self.session = Session(Workspace.open(self.folder))
            self.file = self.folder.parent / "new.png"
            Image.new("RGB", (20, 20), (9, 90, 160)).save(self.file)
            self.past: list[tuple[str, tuple[object, ...]]] = [("", look(self.session))]
            self.at = 0

        def do(self, deed: Callable[[], object]) -> None:
            deed()
            now, (summary, then) = look(self.session), self.past[self.at]
            if self.session.timeline.last != summary or without_later(now, then) != then:
                del self.past[self.at + 1 :]
                self.past.append((self.session.timeline.last, now))
                self.at += 1

        @rule(number=st.integers(1, 90), label=st.integers(0, 5))
        def relabel(self, number: int, label: int) -> None:
            self.do(lambda: self.session.images.relabel(f"image {number} as {label}", [number], label))

        @rule(number=st.integers(1, 90))
        def exclude(self, number: int) -> None:
            self.do(lambda: self.session.images.decide(f"without {number}", [number], moved("excluded")))

        @rule(fraction=st.sampled_from((0.1, 0.2, 0.3)))
        def split(self, fraction: float) -> None:
            plan = self.session.design.plan.changed({"split.validation_fraction": fraction})
            self.do(lambda: self.session.design.change(plan, f"split {fraction}"))

        @rule(image=st.integers(1, 90))
        def open_case(self, image: int) -> None:
            self.do(lambda: self.session.cases.open_case(image, 1, "smooth", "spiny"))

        @rule(run=st.integers(1, 3))
        def delete(self, run: int) -> None:
            if run in self.session.runs.views:
                self.do(lambda: self.session.runs.delete(run))

        @rule(run=st.integers(1, 3), name=st.sampled_from(("", "good", "bad")))
        def name(self, run: int, name: str) -> None:
            if run in self.session.runs.views:
                self.do(lambda: self.session.runs.keep_about(run, About(name)))

        @rule(first=st.integers(1, 89))
        def group(self, first: int) -> None:
            self.do(lambda: self.session.images.keep_together([[first, first + 1]]))

        @rule()
        def add(self) -> None:
            if len(self.session.images.library.rows) < 93:
                self.do(lambda: self.session.images.add([self.file], "smooth"))

        @rule()
        def undo(self) -> None:
            self.session.step_back()
            self.at = max(0, self.at - 1)

        @rule()
        def redo(self) -> None:
            self.session.step_back(forward=True)
            self.at = min(len(self.past) - 1, self.at + 1)

        @rule(number=st.integers(1, 90))
        def somebody_else_flags(self, number: int) -> None:
            """Another process decides something: it stays, whatever is undone here."""
            corrections = self.session.workspace.catalogue.corrections()
            if number not in corrections:
                self.session.workspace.catalogue.correct({number: flagged(True)(moved("test")(NOTHING))})
                self.session.images.reread()
                others = self.session.images.curating.state[number]
                self.past = [
                    (words, (drawn, {**dict(decided), number: others}, *rest))
                    for words, (drawn, decided, *rest) in self.past
                ]

        @invariant()
        def it_is_as_it_was_then(self) -> None:
            summary, then = self.past[self.at]
            now = look(self.session)
            assert self.session.timeline.last == summary
            assert without_later(now, then) == then

        def teardown(self) -> None:
            if hasattr(self, "session"):
                self.session.close()
                shutil.rmtree(self.folder)

    run_state_machine_as_test(
        Deeds, settings=settings(max_examples=15, stateful_step_count=25, deadline=None, phases=[Phase.generate])
    )


def test_what_is_in_the_bin_stays_there_until_it_is_emptied(station: Workspace, qapp: object) -> None:
    session = Session(station)
    assert session.runs.delete(1)
    session.close()
    again = Session(station)
    assert (again.runs.deleted(), dict(again.runs.views)) == ((1,), {})
    assert again.runs.restore(1)
    assert again.runs.deleted() == ()
    assert again.runs.delete(1)
    again.runs.empty_bin()
    again.step_back()
    assert list(again.runs.views) == []
    again.close()


def test_the_word_beside_undo_is_of_what_it_takes_back_at_every_stage(
    qtbot: QtBot, station: Workspace, open_frame: Callable[[Workspace], Frame]
) -> None:
    frame = open_frame(station)
    undo, message = child(frame, QPushButton, "undo"), child(frame, QLabel, "message")
    assert not undo.isVisible()
    frame.session.images.decide("flagged image 1", [1], flagged(True))
    frame.session.design.change(small_plan(), "taking a small plan")
    for key in ("explain", "results", "images", "training", "network"):
        stage(qtbot, frame, key)
        assert undo.text() == "undo taking a small plan"
    qtbot.keyClick(frame, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert message.text() == "Taken back: taking a small plan."
    assert frame.session.design.plan == Plan()
    assert undo.text() == "undo flagged image 1"
    undo.click()
    assert not undo.isVisible()
    assert frame.session.images.curating.state == {}
    qtbot.keyClick(frame, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert message.text() == "Done again: flagged image 1."
