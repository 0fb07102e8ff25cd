from __future__ import annotations

import csv
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule
from tests.answering import answer

from attentive_lens.desk.history import History
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.images.curating import Curating, flagged, moved, read_list, relabelled, write_list
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.training.cautions import (
    caution_of_gap,
    caution_of_labels,
    caution_of_test,
    changed_since,
    judged_by_test,
)
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.plan.plan import Plan
from attentive_lens.scoring.scores import scored
from attentive_lens.training.figures import Figures
from attentive_lens.training.journal import EpochEvent
from attentive_lens.workspace import Workspace


def lines(file: Path) -> list[dict[str, str]]:
    with file.open(newline="", encoding="utf-8") as stream:
        return list(csv.DictReader(stream))


def written(folder: Path, text: str) -> Path:
    (folder / "in.csv").write_text(text, "utf-8")
    return folder / "in.csv"


def test_decisions_change_labels_and_sets_and_no_file(station: Workspace) -> None:
    before = collection(station, Plan())
    files = {row.file: (station.folder / row.file).stat().st_mtime_ns for row in before.rows}
    curating = Curating(station)
    curating.change("relabel", [1, 2], relabelled(3))
    curating.change("exclude", [5], moved("excluded"))
    curating.change("flag", [7], flagged(True))
    after = collection(station, Plan())
    assert [after.rows[k].label for k in (0, 1)] == [3, 3]
    assert after.sets[4] == "excluded"
    assert after.rows[6].flagged
    assert sum(after.totals) == len(before.rows) - 1
    assert {row.file: (station.folder / row.file).stat().st_mtime_ns for row in after.rows} == files


def test_undo_and_redo_go_through_the_catalogue(station: Workspace) -> None:
    before = collection(station, Plan())
    curating = Curating(station)
    curating.change("exclude 3", [1, 2, 3], moved("excluded"))
    curating.change("relabel 1", [1], relabelled(4))
    changed = collection(station, Plan())
    assert curating.undo() == "relabel 1"
    assert curating.undo() == "exclude 3"
    assert curating.undo() == ""
    assert collection(station, Plan()) == before
    assert (curating.redo(), curating.redo(), curating.redo()) == ("exclude 3", "relabel 1", "")
    assert collection(station, Plan()) == changed
    assert Curating(station).state == curating.state


def test_leaving_one_image_out_deals_no_other_anew(station: Workspace) -> None:
    before = collection(station, Plan())
    out = before.sets.index("training")
    Curating(station).change("exclude", [out + 1], moved("excluded"))
    after = collection(station, Plan())
    moves = [k for k, (a, b) in enumerate(zip(before.sets, after.sets, strict=True)) if a != b and k != out]
    assert len(moves) <= 1


def test_a_list_written_and_read_again_changes_nothing(station: Workspace, tmp_path: Path) -> None:
    curating = Curating(station)
    curating.change("relabel", [2], relabelled(1))
    curating.change("exclude", [9, 10], moved("excluded"))
    curating.change("flag", [4], flagged(True))
    assert write_list(station, tmp_path / "out.csv") == len(lines(tmp_path / "out.csv"))
    before = station.catalogue.corrections()
    taken = read_list(station, tmp_path / "out.csv")
    assert (taken.relabelled, taken.moved, taken.flagged) == (0, 0, 0)
    assert station.catalogue.corrections() == before


def test_decisions_come_from_a_table_by_number_path_or_name(station: Workspace, tmp_path: Path) -> None:
    rows = station.catalogue.images()
    classes = station.catalogue.classes()
    other = classes[(rows[0].label + 1) % len(classes)]
    name = rows[1].file.rsplit("/", 1)[-1]
    text = f"file,label,set\n{rows[0].file},{other},\n{name},,excluded\n"
    taken = read_list(station, written(tmp_path, text))
    assert (taken.relabelled, taken.moved) == (1, 1)
    result = collection(station, Plan())
    assert result.classes[result.rows[0].label] == other
    assert result.sets[1] == "excluded"
    read_list(station, written(tmp_path, "image,set\n2,as split\n"))
    assert collection(station, Plan()).sets[1] != "excluded"


@pytest.mark.parametrize(
    ("text", "summary"),
    [
        ("a,b\n1,2\n", "does not name"),
        ("image,label\n3,winged\n1,smooht\n", "line 3: class is not known"),
        ("image,label\n3,winged\n9999,smooth\n", "there is no image 9999"),
        ("file,label\nnone.png,smooth\n", "«none.png» is not known"),
        ("image,set\n3,excluded\n1,holiday\n", "line 3: set is not known"),
        ("image,label\n3,winged\n1\n", "does not have 2 cells"),
    ],
)
def test_a_table_with_one_wrong_line_changes_nothing(
    text: str, summary: str, station: Workspace, tmp_path: Path
) -> None:
    with pytest.raises(BadValue, match=summary):
        read_list(station, written(tmp_path, text))
    assert station.catalogue.corrections() == {}


def test_labels_not_known_become_classes_when_asked(station: Workspace, tmp_path: Path) -> None:
    taken = read_list(station, written(tmp_path, "image,label\n1,tufted\n2,tufted\n"), new_classes=True)
    assert taken.new_classes == ("tufted",)
    result = collection(station, Plan())
    assert result.classes[result.rows[0].label] == "tufted"
    assert result.totals[-1] == 2


def test_labels_changed_after_a_run_are_told_and_its_sets_stay(station: Workspace) -> None:
    run = station.runs()[0]
    before = collection(station, run.plan(), run)
    assert changed_since(run, before) == []
    trained = before.sets.index("training") + 1
    curating = Curating(station)
    curating.change("relabel", [trained], relabelled((before.rows[trained - 1].label + 1) % 6))
    curating.change("move", [trained], moved("test"))
    after = collection(station, run.plan(), run)
    assert changed_since(run, after) == [trained]
    assert f"1 image has another label now than run 1 knew: {trained}." in caution_of_labels(1, [trained])
    assert caution_of_labels(1, []) == ""
    assert after.sets == before.sets, "a run keeps the sets it was trained with"
    assert collection(station, Plan()).sets[trained - 1] == "test"
    curating.undo()
    curating.undo()
    assert changed_since(run, collection(station, run.plan(), run)) == []


def test_a_test_set_that_judged_several_runs_is_warned_of(station: Workspace) -> None:
    answer(Score(str(station.folder), 1, "validation"))
    assert judged_by_test(station) == []
    answer(Score(str(station.folder), 1, "test"))
    assert judged_by_test(station) == [1]
    assert caution_of_test([1]) == ""
    assert "judged 2 runs (1, 4)" in caution_of_test([1, 4])


def test_a_workspace_that_cannot_be_written_keeps_its_decisions(station: Workspace) -> None:
    closed = Workspace(station.folder, station.name, writable=False)
    curating = Curating(closed)
    with pytest.raises(BadFile, match="cannot be written"):
        curating.change("flag", [1], flagged(True))
    assert curating.state == {}


class UndoMachine(RuleBasedStateMachine):
    """Whatever is done, undone and done again, the history shows what a plain list of states would."""

    def __init__(self) -> None:
        super().__init__()
        self.history = History(0)
        self.past = [0]
        self.future: list[int] = []

    @rule(state=st.integers())
    def add(self, state: int) -> None:
        self.history.add(f"to {state}", state)
        self.past.append(state)
        self.future = []

    @rule()
    def undo(self) -> None:
        summary = self.history.undo()
        assert bool(summary) == (len(self.past) > 1)
        if len(self.past) > 1:
            self.future.append(self.past.pop())

    @rule()
    def redo(self) -> None:
        summary = self.history.redo()
        assert bool(summary) == bool(self.future)
        if self.future:
            self.past.append(self.future.pop())

    @invariant()
    def shows_the_same_state(self) -> None:
        assert self.history.state == self.past[-1]
        assert bool(self.history.last) == (len(self.past) > 1)


UndoMachine.TestCase.settings = settings(max_examples=60, deadline=None)
TestUndo = UndoMachine.TestCase


@pytest.mark.parametrize(
    ("validated", "tested", "images", "warns"),
    [
        (0.98, 0.5, 300, True),
        (0.98, 0.95, 300, False),
        (0.98, 0.88, 300, False),
        (0.9, 0.95, 300, False),
        (1, 0.5, 4, False),
    ],
)
def test_a_test_set_far_behind_the_validation_set_is_told(
    validated: float, tested: float, images: int, warns: bool, station: Workspace
) -> None:
    best = EpochEvent(1, Figures(0.1, 1.0), Figures(0.1, validated), True)
    right = round(tested * images)
    predicted = np.array([0] * right + [1] * (images - right))
    numbers, true = list(range(1, images + 1)), np.zeros(images, np.int64)
    answers = np.full((images, 2), 0.5)
    scores = scored("test", ("a", "b"), numbers, true, predicted, answers, np.ones(images), "cross-entropy")
    words = caution_of_gap(station.run(1), best, scores)
    assert bool(words) == warns
    if warns:
        assert "50.0%" in words
        assert "98.0%" in words
        assert caution_of_gap(station.run(1), best, replace(scores, on="validation")) == ""
        assert caution_of_gap(station.run(1), None, scores) == ""
