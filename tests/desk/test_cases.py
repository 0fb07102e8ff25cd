"""The case book: any sequence of steps is undone to the first, the file is always the book, and statuses are earned."""

from __future__ import annotations

import tempfile
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule
from tests.cli.running import command, last_object

from attentive_lens.core.jobs import finish
from attentive_lens.desk.case_status import STATUSES, RunAnswer, status_of
from attentive_lens.desk.explaining.casebook import OpenCases
from attentive_lens.desk.images.curating import Curating, moved, relabel
from attentive_lens.desk.requests.cases import TryCases
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.errors import LensError
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.cases import FILE, Case, CaseBook, Evidence, read_cases
from attentive_lens.workspace.corrections import EXCLUDED

CASE = Case(1, 7, 2, "spiny", "winged", 0.0)


class Steps(RuleBasedStateMachine):
    """Cases are opened, told about, pinned to, deleted, and all of it undone and done again."""

    @initialize()
    def begin(self) -> None:
        self.folder = tempfile.TemporaryDirectory()
        self.cases = OpenCases(Workspace(Path(self.folder.name), "w", True))
        self.states: list[CaseBook] = [self.cases.book]
        self.at = 0

    def teardown(self) -> None:
        if hasattr(self, "folder"):
            self.folder.cleanup()

    def done(self) -> None:
        if self.cases.book != self.states[self.at]:
            del self.states[self.at + 1 :]
            self.states.append(self.cases.book)
            self.at += 1

    def some(self, place: int) -> Case:
        return self.cases.book.cases[place % len(self.cases.book.cases)]

    @rule(image=st.integers(1, 6))
    def opened(self, image: int) -> None:
        known = self.cases.book.of_image(image)
        case = self.cases.open_case(image, 1, "a", "b")
        assert case is not None
        assert case.image == image
        assert known is None or known == case
        self.done()

    @precondition(lambda self: self.cases.book.cases)
    @rule(place=st.integers(0, 9), cause=st.sampled_from(["", "a mark or place", "a thumb"]), note=st.text(max_size=5))
    def summary(self, place: int, cause: str, note: str) -> None:
        case = replace(self.some(place), cause=cause, note=note)
        self.cases.change(case, "telling")
        assert self.cases.book.case(case.number) == case
        assert not cause or cause in self.cases.book.causes
        self.done()

    @precondition(lambda self: self.cases.book.cases)
    @rule(place=st.integers(0, 9), words=st.sampled_from(["a map", "neighbours"]))
    def pinned(self, place: int, words: str) -> None:
        case, evidence = self.some(place), Evidence("map", words, 1, {"method": "gradient"})
        self.cases.pin(case.number, evidence)
        assert self.cases.book.case(case.number).evidence.count(evidence) == 1
        self.done()

    @precondition(lambda self: any(case.evidence for case in self.cases.book.cases))
    @rule()
    def unpinned(self) -> None:
        case = next(case for case in self.cases.book.cases if case.evidence)
        self.cases.unpin(case.number, 0)
        assert self.cases.book.case(case.number).evidence == case.evidence[1:]
        self.done()

    @precondition(lambda self: self.cases.book.cases)
    @rule(place=st.integers(0, 9))
    def deleted(self, place: int) -> None:
        number = self.some(place).number
        self.cases.delete(number)
        with pytest.raises(LensError):
            self.cases.book.case(number)
        self.done()

    @rule()
    def undone(self) -> None:
        assert bool(self.cases.undo()) == (self.at > 0)
        self.at = max(0, self.at - 1)

    @rule()
    def redone(self) -> None:
        assert bool(self.cases.redo()) == (self.at < len(self.states) - 1)
        self.at = min(len(self.states) - 1, self.at + 1)

    @invariant()
    def the_file_is_the_book(self) -> None:
        if hasattr(self, "cases"):
            assert self.cases.book == self.states[self.at]
            assert read_cases(Path(self.folder.name)) == self.cases.book
            numbers = [case.number for case in self.cases.book.cases]
            assert numbers == sorted(set(numbers))
            assert max(numbers, default=0) <= self.cases.book.last


Steps.TestCase.settings = settings(max_examples=25, stateful_step_count=20, deadline=None)
test_any_sequence_of_steps = Steps.TestCase


def answers(*runs: tuple[int, str, bool]) -> list[RunAnswer]:
    return [RunAnswer(run, plan, "winged" if right else "spiny", 0.9, right) for run, plan, right in runs]


@pytest.mark.parametrize(
    ("runs", "status", "words"),
    [
        ([(2, "p", False)], "not re-tried", "since"),
        ([(2, "p", False), (3, "p", False)], "still wrong", "right in 0 of 1 runs of the unchanged plan"),
        ([(2, "p", False), (3, "p", True)], "right, not proved", "Only seeds"),
        ([(2, "p", False), (3, "q", True)], "right, not proved", "repeat it"),
        ([(2, "p", False), (3, "q", True), (4, "p", False)], "fixed", "right in 1 of 1 runs of the plan of run 3"),
        ([(2, "p", False), (3, "q", True), (4, "p", True)], "no better than unchanged", "1 of 1"),
        ([(2, "p", False), (3, "q", True), (4, "q", False), (5, "p", False)], "still wrong", "1 of 2"),
        ([(2, "p", False), (3, "q", True), (4, "q", True), (5, "q", False), (6, "p", False)], "fixed", "2 of 3"),
        ([(2, "p", False), (3, "q", True), (4, "p", False), (5, "r", False)], "still wrong", "plan of run 5"),
        ([(1, "q", True), (2, "p", False)], "not re-tried", "since"),
    ],
)
def test_fixed_is_most_seeds_and_more_than_unchanged(
    runs: list[tuple[int, str, bool]], status: str, words: str
) -> None:
    result = status_of(CASE, answers(*runs), "winged", True)
    assert result.word == status
    assert words in result.words
    assert result.word in STATUSES


def test_what_was_right_and_is_wrong_now_is_newly_broken() -> None:
    case = replace(CASE, predicted="winged")
    assert status_of(case, answers((2, "p", True), (3, "q", False)), "winged", True).word == "newly broken"
    assert status_of(case, answers((2, "p", True), (3, "q", True), (4, "p", False)), "winged", True).word == "fixed"


def test_decisions_settle_a_case() -> None:
    runs = answers((2, "p", False), (3, "q", True))
    assert status_of(CASE, runs, "spiny", True).word == "settled by its label"
    assert status_of(CASE, runs, "winged", False).word == "excluded"
    assert status_of(CASE, runs, None, False).word == "gone"


def test_cases_are_tried_with_every_run(station: Workspace) -> None:
    folder = str(station.folder)
    scores = finish(carry_out(Score(folder, 1)))
    wrong = [answer for answer in scores.answers if answer.predicted != answer.true][:3]
    book = OpenCases(station)
    for answer in wrong:
        book.open_case(answer.image, 1, scores.classes[answer.predicted], scores.classes[answer.true])
    plan = station.run(1).plan()
    for changed in (plan.changed({"seed": 9}), plan.changed({"optimiser.learning_rate": 0.004})):
        finish(execute(station, station.claim_run(changed), lambda: False))
    curating = Curating(station)
    relabel(curating, "as said", station.catalogue.images(), [wrong[1].image], wrong[1].predicted)
    curating.change("left out", [wrong[2].image], moved(EXCLUDED))
    summary = finish(carry_out(TryCases(folder)))
    assert [each.case.image for each in summary.cases] == [answer.image for answer in wrong]
    first, second, third = summary.cases
    assert [answer.run for answer in first.answers] == [1, 2, 3]
    assert first.answers[0].predicted == scores.classes[wrong[0].predicted]
    assert first.answers[0].probability == pytest.approx(wrong[0].probability, abs=1e-6)
    assert first.answers[0].plan == first.answers[1].plan != first.answers[2].plan
    assert all(answer.right == (answer.predicted == first.label) for answer in first.answers)
    assert first.set == "validation"
    assert (second.status, third.status) == ("settled by its label", "excluded")
    assert sum(summary.by_status.values()) == sum(summary.by_cause.values()) == 3


def test_the_command_opens_tells_and_lists(station: Workspace) -> None:
    folder = station.folder
    assert "empty" in command("cases", folder)
    wrong = last_object(command("score", folder, 1, "--json"))["wrong"][0]
    words = ("cases", folder, "--open", wrong["image"], "--run", 1, "--cause", "a thumb", "--note", "seen twice")
    summary = last_object(command(*words, "--json"))
    (case,) = summary["cases"]
    assert (case["case"]["predicted"], case["case"]["true"]) == (wrong["predicted"], wrong["true"])
    assert (case["case"]["cause"], case["status"]) == ("a thumb", "not re-tried")
    shown = command("cases", folder, "--case", 1, "--close", "--remedy", "masked")
    assert "closed" in shown
    assert "seen twice" in shown
    assert read_cases(folder).causes[-1] == "a thumb"
    for refused, part in (
        (["--case", 9, "--note", "x"], "no case 9"),
        (["--note", "x"], "no case is named"),
        (["--open", wrong["image"]], "--run"),
        (["--open", 10_000, "--run", 1], "no image"),
    ):
        code = 2 if part in ("no case is named", "--run") else 1
        error = last_object(command("cases", folder, *refused, "--json", code=code))["error"]
        assert part in " ".join(error.values())
    assert last_object(command("cases", folder, "--case", 1, "--delete", "--json"))["cases"] == []


@pytest.mark.parametrize(
    "text", ["", "{", '{"format": 1}', '{"format": 9, "book": {}}', '{"format": 1, "book": {"cases": 3}}']
)
def test_a_damaged_book_is_a_sentence_and_stays_as_it_is(station: Workspace, text: str) -> None:
    (station.folder / FILE).write_text(text, "utf-8")
    messages: list[str] = []
    book = OpenCases(station)
    book.message.connect(lambda sentence, _: messages.append(sentence))
    assert book.open_case(1, 1, "a", "b") is None
    assert FILE in messages[0]
    assert (station.folder / FILE).read_text("utf-8") == text
    assert FILE in last_object(command("cases", station.folder, "--json", code=1))["error"]["what"]
