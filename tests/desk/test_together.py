"""Looking for faults changes no split; keeping images together does, and says what it moves."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from scipy.ndimage import gaussian_filter

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.images.data import Data, gather
from attentive_lens.desk.images.together import keep_together, what_moves
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.requests.images import FindFaults
from attentive_lens.desk.tasks import carry_out, looking
from attentive_lens.desk.tasks.looking import with_marks_measured
from attentive_lens.errors import BadFile
from attentive_lens.explaining.trials import Trial
from attentive_lens.images.faults import Action, Evidence, Finding
from attentive_lens.plan.augmentation import Erasing
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace

SPLIT = Plan().changed({"split.validation_fraction": 0.25, "split.test_fraction": 0.0})


def held_for_test(data: Data) -> int:
    """Test images of other classes than the first image's."""
    others = data.labels != data.labels[0]
    return int((others & (np.array(data.collection.sets) == "test")).sum())


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
    assert third == "No image moves to another set", "they stood in one set already"
    assert len(set(station.catalogue.copies().values())) == 3, "groups of another time stay"


def test_a_class_whose_group_is_too_large_is_named(station: Workspace) -> None:
    before = collection(station, SPLIT)
    name = before.classes[0]
    numbers = [row.number for row in before.rows if row.label == 0 and before.sets[row.number - 1] != "test"]
    words = keep_together(station, SPLIT, [numbers[: len(numbers) - 1]])
    assert "validation" not in {row.given_set for row in before.rows}
    assert "Not 25% of these can be validated on" in words
    assert f"{name} " in words


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


@pytest.mark.parametrize(
    ("trial", "words", "actions"),
    [
        (Trial(0.5, 0.0, 0.4, 0.1, 20, 30), "run 1 goes by it: put into images of other classes it turns 40%", 2),
        (Trial(0.1, 0.0, 0.1, 0.1, 20, 30), "but run 1 does not go by it", 1),
        (None, "90% of them have something: a mark", 2),
    ],
)
def test_a_run_is_asked_whether_it_goes_by_a_mark(
    trial: Trial | None, words: str, actions: int, station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    request: list[tuple[int, ...]] = []

    def tried(
        predictor: object, carriers: np.ndarray, others: np.ndarray, truth: np.ndarray, label: int, spot: object
    ) -> Trial | None:
        request.append((len(carriers), len(others), label))
        assert spot == (0.9, 0.1, 0.25)
        assert label not in truth
        return trial

    monkeypatch.setattr(looking, "tried", tried)
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
    both = (Action("cover places at random", step=Erasing()), Action("flag them", flag=places))
    mark = Finding("mark", "90% of them have something: a mark", "Look", places, both, spot=(0.9, 0.1, 0.25))
    other = Finding("rare class", "few", "Add some", places[:2])
    first, second = finish(with_marks_measured(station, evidence, [mark, other]))
    assert second == other
    assert request == [(len(places), (data.labels != data.labels[0]).sum() - held_for_test(data), data.labels[0])]
    assert words in first.why
    assert len(first.actions) == actions
    assert first.actions[-1].flag == places


def test_the_pattern_proposed_for_tiles_splits_the_files_as_they_are_named(tmp_path: Path) -> None:
    for photograph in range(15):
        random = np.random.default_rng(photograph)
        field = gaussian_filter(random.standard_normal((160, 160)), random.uniform(1, 2.5))
        whole = (random.uniform(80, 170) + random.uniform(25, 45) * field / field.std()).clip(0, 255).astype(np.uint8)
        folder = tmp_path / "walls" / "abc"[photograph % 3]
        folder.mkdir(parents=True, exist_ok=True)
        for k, (row, column) in enumerate((r, c) for r in (0, 48, 96) for c in (0, 48, 96)):
            tile = Image.fromarray(whole[row : row + 64, column : column + 64])
            tile.save(folder / f"wall{photograph}_t{k}.png")
    workspace = finish(make_workspace(tmp_path / "work", tmp_path / "walls")).workspace
    place = str(workspace.folder)
    (tiles,) = [fault for fault in finish(carry_out(FindFaults(place))).faults if fault.kind == "tiles"]
    plan = Plan().changed(tiles.actions[0].settings)
    split = collection(workspace, plan)
    sets: dict[str, set[str]] = {}
    for row, name in zip(split.rows, split.sets, strict=True):
        sets.setdefault(row.name.split("_")[0], set()).add(name)
    assert len(sets) == 15
    assert all(len(own) == 1 for own in sets.values())
    assert split.count("validation") > 0
    again = finish(carry_out(FindFaults(place, plan.write()))).faults
    assert not [fault for fault in again if fault.kind == "tiles"], "the split that cures it was followed"
