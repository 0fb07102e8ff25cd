"""Looking for faults changes no split; keeping images together does, and says what it moves."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from attentive_lens.core.jobs import finish
from attentive_lens.desk.collection import collection
from attentive_lens.desk.data import gather
from attentive_lens.desk.tasks.looking import asked_about_marks
from attentive_lens.desk.together import keep_together, what_moves
from attentive_lens.errors import BadFile
from attentive_lens.images.faults import Action, Evidence, Finding
from attentive_lens.plan.augmentation import Erasing
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace

SPLIT = Plan().changed({"split.validation_fraction": 0.25, "split.test_fraction": 0.0})


def free(workspace: Workspace) -> list[int]:
    """Images whose set the split chooses."""
    return [row.number for row in workspace.catalogue.images() if row.given_set in (None, "training")]


def test_groups_stand_in_one_set_and_what_moved_is_said(station: Workspace) -> None:
    before = collection(station, SPLIT)
    numbers = [n for n in free(station) if before.rows[n - 1].label == 0]
    held = [n for n in numbers if before.sets[n - 1] == "validation"]
    learned = [n for n in numbers if before.sets[n - 1] == "training"]
    words = keep_together(station, SPLIT, [(held[0], learned[0]), (held[1], learned[1])])
    after = collection(station, SPLIT)
    for one, other in ((held[0], learned[0]), (held[1], learned[1])):
        assert after.sets[one - 1] == after.sets[other - 1]
    moved = sum(a != b for a, b in zip(before.sets, after.sets, strict=True))
    assert sum(int(word) for word in words.split() if word.isdigit()) == moved > 0
    third = keep_together(station, SPLIT, [(learned[2], learned[3])])
    assert set(station.catalogue.copies()) >= {held[0], learned[0], held[1], learned[1], learned[2], learned[3]}
    assert "to" in third
    assert len(set(station.catalogue.copies().values())) == 3, "groups of another time stay"


def test_a_class_whose_group_is_too_large_is_named(station: Workspace) -> None:
    before = collection(station, SPLIT)
    name = before.classes[0]
    numbers = [row.number for row in before.rows if row.label == 0 and before.sets[row.number - 1] != "test"]
    words = keep_together(station, SPLIT, [numbers[: len(numbers) - 1]])
    if "validation" not in {row.given_set for row in before.rows}:
        assert f"{name} " in words
        assert "25%" in words


def test_a_plan_that_keeps_nothing_together_is_told(station: Workspace) -> None:
    plan = SPLIT.changed({"split.keep_together": "none"})
    before = collection(station, plan)
    assert "does not keep copies together" in keep_together(station, plan, [(1, 2)])
    assert collection(station, plan).sets == before.sets
    assert what_moves(before, collection(station, plan), plan) == "No image moves to another set"


def test_a_workspace_that_is_only_read_keeps_no_groups(station: Workspace) -> None:
    with pytest.raises(BadFile, match="not kept"):
        keep_together(replace(station, writable=False), SPLIT, [(1, 2)])
    assert not station.catalogue.copies()


def test_a_run_is_asked_whether_it_goes_by_a_mark(station: Workspace) -> None:
    data = finish(gather(station, Plan()))
    used = np.arange(len(data.labels))
    evidence = Evidence(
        data.pixels,
        data.labels,
        tuple(data.collection.sets),
        tuple(data.collection.classes),
        np.full((len(used), 2), 64),
        used,
    )
    places = tuple(np.flatnonzero(data.labels == data.labels[0]).tolist())
    step = Action("cover places at random", step=Erasing())
    mark = Finding("mark", "90% of them have something: a mark", "Look", places, (step,), spot=(0.9, 0.1, 0.25))
    other = Finding("rare class", "few", "Add some", places[:2])
    first, second = finish(asked_about_marks(station, evidence, [mark, other]))
    assert second == other
    if first != mark:  # the run may know too few of them
        assert "run 1" in first.why
        assert "mirrored place" in first.why
        assert bool(first.actions) == ("goes by it" in first.why and "does not" not in first.why)
