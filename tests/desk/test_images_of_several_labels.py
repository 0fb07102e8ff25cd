"""Images that may have several labels: split, looked through, corrected, and looked through for faults."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.browsing import Answers, Wanted, browse
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.images.curating import read_list, write_list
from attentive_lens.desk.images.state import OpenImages
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.network.usual import usual_plan
from attentive_lens.desk.requests.images import ClassAverages, FindFaults
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.tasks.looking import with_sets
from attentive_lens.errors import BadValue
from attentive_lens.images.faults import Action, Finding
from attentive_lens.images.reading import Reading
from attentive_lens.plan.labels import labels_in
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace

LABELS = ("furrowed", "netted", "smooth", "spiny", "triangular", "winged")


def ask(request):  # type: ignore[no-untyped-def]  # whatever the request gives
    return finish(carry_out(request))


def place(workspace: Workspace) -> str:
    return str(workspace.folder)


class Deaf:
    """Asks nobody."""

    def ask(self, *_: object, **__: object) -> None:
        """Nothing follows."""


def test_labels_are_given_taken_and_called_otherwise_and_all_of_it_is_undone(fields: Workspace) -> None:
    images = OpenImages(fields, lambda: usual_plan(fields), Deaf())
    before = [images.collection.classes[row.label] for row in images.collection.rows]

    def names(number: int) -> set[str]:
        return set(labels_in(images.collection.classes[images.collection.rows[number - 1].label]))

    images.put_label("gave dusty", [1, 2, 3], "dusty", True)
    assert all(names(n) == {*labels_in(before[n - 1]), "dusty"} for n in (1, 2, 3))
    images.put_label("took it", [2], "dusty", False)
    assert names(2) == set(labels_in(before[1]))
    images.replace_label("dusty", "smooth")
    assert "dusty" not in images.collection.kinds and "smooth" in names(1)
    for _ in range(3):
        assert images.undo()
    assert [images.collection.classes[row.label] for row in images.collection.rows] == before
    assert "dusty" not in images.collection.kinds


def test_a_table_of_corrections_may_name_any_set_of_known_labels(fields: Workspace, tmp_path: Path) -> None:
    table = tmp_path / "labels.csv"
    write_list(fields, table)
    assert read_list(fields, table).relabelled == 0
    table.write_text("image,label\n1,winged;furrowed ; spiny; smooth;netted\n")
    assert read_list(fields, table).relabelled == 1
    rows = collection(fields, Plan())
    assert rows.classes[rows.rows[0].label] == "furrowed; netted; smooth; spiny; winged"
    table.write_text("image,label\n1,winged; dusty\n")
    with pytest.raises(BadValue, match="class"):
        read_list(fields, table)
    assert read_list(fields, table, new_classes=True).new_classes == ("dusty; winged",)


def test_a_label_left_out_is_not_learned(fields: Workspace) -> None:
    plan = usual_plan(fields)
    images = collection(fields, replace(plan, split=plan.split.with_(left_out=("netted",))))
    assert images.learned(plan.task) == [name for name in LABELS if name != "netted"]
    assert images.sets == collection(fields, plan).sets, "its images are learned from all the same"


def test_faults_of_several_labels_name_the_label(fields: Workspace) -> None:
    faults = ask(FindFaults(place(fields)))
    kinds = {fault.kind for fault in faults.faults}
    assert "imbalance" not in kinds
    for fault in faults.faults:
        for action in fault.actions:
            classes = fields.catalogue.classes()
            assert all(0 <= label < len(classes) for _, label in action.relabel)


def test_actions_about_a_label_give_sets_that_there_are() -> None:
    classes, labels = ["a", "a; b", "b; c", "no label"], np.array([0, 1, 2, 3])
    action = Action("relabel", relabel=((0, 1), (1, 0), (2, 0), (3, 1)))
    (done,) = with_sets(Finding("doubt", "so", "do", (0, 1), (action,)), "b", classes, labels).actions
    assert done.relabel == ((0, 1), (1, 0)), "«c» alone and «b» alone are no classes here"
    impossible = Action("relabel", relabel=((3, 1),))
    excluding = Action("exclude", exclude=(3,))
    changed = with_sets(Finding("doubt", "so", "do", (3,), (impossible, excluding)), "b", classes, labels)
    assert changed.actions == (excluding,)
    assert changed.why == "«b»: so"


def test_every_label_has_its_part_in_validation_however_many_sets_there_are(tmp_path: Path) -> None:
    random = np.random.default_rng(8)
    labels = [f"label {k:02d}" for k in range(30)]
    lines = ["file,types"]
    chances = np.linspace(0.04, 0.3, 30)
    for k in range(500):
        own = [label for label, chance in zip(labels, chances, strict=True) if random.random() < chance]
        lines.append(f"{k}.png,{';'.join(own)}")
        Image.new("RGB", (8, 8), (k % 256, 90, 20)).save(tmp_path / f"{k}.png")
    (tmp_path / "t.csv").write_text("\n".join(lines))
    made = finish(make_workspace(tmp_path / "w", tmp_path, "", Reading(separator=";")))
    images = collection(made.workspace, Plan())
    assert len(images.classes) > 300, "hardly a set comes twice"
    assert images.count("validation") == pytest.approx(100, abs=12)
    for kind, name in enumerate(images.kinds):
        whole, held_out = images.kind_totals[kind], images.count_of_kind("validation", kind)
        assert 0 < held_out < 0.5 * whole, name
    groups = browse(images, Wanted(), {}, Answers())
    assert [group.title for group in groups] == ["training", "validation"]
    few = browse(images, Wanted(label=0, sets=frozenset({"validation"})), {}, Answers())
    assert all("label 00" in labels_in(group.title) for group in few) and few


def test_averages_are_of_labels(fields: Workspace) -> None:
    averages = ask(ClassAverages(place(fields)))
    images = collection(fields, Plan())
    assert len(averages.mean) == len(images.kinds) == 7
    pixels = [np.asarray(Image.open(fields.path_of(row)).convert("RGB")) for row in images.rows]
    side = averages.mean.shape[1]
    for kind in (1, 6):
        own = [k for k in np.flatnonzero(images.of_kind(kind)).tolist() if images.sets[k] == "training"]
        mean = np.mean([pixels[k].mean() for k in own])
        assert averages.mean[kind].mean() == pytest.approx(mean, abs=2) and side == 64
