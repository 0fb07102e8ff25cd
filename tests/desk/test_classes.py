"""Classes are left out, emptied, renamed, merged and added, and what was made before knows them still."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest
from tests.cli.running import TINY, command, last_object
from tests.conftest import small_plan

from attentive_lens.core.jobs import finish
from attentive_lens.desk.history import Timeline
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.images.curating import Curating, relabel_as_new
from attentive_lens.desk.images.state import OpenImages
from attentive_lens.desk.making import look_again
from attentive_lens.desk.network.design import Design
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.prices import PricePlan
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.errors import BadUsage, BadValue
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace

NAMES = ["furrowed", "netted", "smooth", "spiny", "triangular", "winged"]


def trained(station: Workspace, plan: Plan) -> tuple[str, ...]:
    run = station.claim_run(plan)
    finish(execute(station, run, lambda: False))
    return read_model(run.model).classes


def test_classes_left_out_of_a_plan_have_no_unit_and_no_images(station: Workspace) -> None:
    plan = small_plan().changed({"split.left_out": ["spiny", "winged"], "training.epochs": 1})
    split = collection(station, plan)
    assert split.taught == ["furrowed", "netted", "smooth", "triangular"]
    assert {row.label for row, name in zip(split.rows, split.sets, strict=True) if name == "left out"} == {3, 5}
    assert trained(station, plan) == tuple(split.taught)
    scores = finish(carry_out(Score(str(station.folder), 2, "test")))
    assert scores.classes == tuple(split.taught)
    assert scores.images == split.count("test")
    assert finish(carry_out(PricePlan(str(station.folder), plan.write()))).epoch_seconds > 0
    words = ("--set", 'split.left_out=["spiny"]')
    command("train", station.folder, *TINY, *words)
    assert "spiny" not in read_model(station.run(3).model).classes
    assert station.run(3).classes() == ("furrowed", "netted", "smooth", "triangular", "winged")


def test_a_list_that_is_none_of_texts_is_refused() -> None:
    with pytest.raises(BadValue, match="a list of texts"):
        Plan().changed({"split.left_out": [3]})
    with pytest.raises((BadValue, BadUsage), match="list is needed"):
        Plan().changed({"split.left_out": "spiny"})


def test_an_emptied_class_has_no_unit(station: Workspace) -> None:
    result = last_object(command("label", station.folder, "--merge", "triangular=smooth", "--json"))
    assert result["relabelled"] == sum(row.label == 4 for row in station.catalogue.images())
    assert "triangular" not in collection(station, Plan()).taught
    assert trained(station, small_plan().changed({"training.epochs": 1})) == tuple(
        name for name in NAMES if name != "triangular"
    )
    assert last_object(command("label", station.folder, "--merge", "spiny=spiny", "--json", code=1))["error"]
    assert last_object(command("label", station.folder, "--merge", "spiny", "--json", code=2))["error"]


def test_a_renamed_class_is_the_same_class_for_earlier_runs_rescans_and_what_is_restored(station: Workspace) -> None:
    before = finish(carry_out(Score(str(station.folder), 1, "test")))
    command("label", station.folder, "--rename", "spiny=echinate")
    station.run(1).scores_file("test").unlink()
    after = finish(carry_out(Score(str(station.folder), 1, "test")))
    assert after.unknown == 0
    assert (after.true == before.true).all()
    assert after.classes == before.classes, "a run's classes are its own"
    rescanned = finish(look_again(station, contents=True))
    assert (rescanned.added, rescanned.changed) == ((), ())
    assert station.catalogue.classes() == [name if name != "spiny" else "echinate" for name in NAMES]
    curating = Curating(station)
    relabel_as_new(curating, "as echinate", station.catalogue.images(), [1], "echinate")
    command("label", station.folder, "--rename", "echinate=spinous")
    station.catalogue.file.write_bytes(b"damaged")
    command("restore", station.folder)
    assert "spinous" in station.catalogue.classes()
    assert station.catalogue.corrections()[1].label == NAMES.index("spiny")
    assert len(station.catalogue.classes()) == len(NAMES)
    plan = Plan().changed({"split.left_out": ["spiny"]})
    assert "spinous" not in collection(station, plan).taught, "left out by its earlier name"


@pytest.mark.parametrize(("words", "part"), [("spiny=smooth", "another class is"), ("nothing=x", "nothing")])
def test_a_name_that_is_taken_or_unknown_is_refused(station: Workspace, words: str, part: str) -> None:
    error = last_object(command("label", station.folder, "--rename", words, "--json", code=2 if "x" in words else 1))
    assert part in " ".join(error["error"].values())
    command("label", station.folder, "--rename", "spiny=echinate")
    last_object(command("label", station.folder, "--rename", "smooth=spiny", "--json", code=1))
    command("label", station.folder, "--rename", "echinate=spiny")
    assert station.catalogue.classes() == NAMES


def test_a_new_class_comes_and_goes_with_the_decision_that_names_it(station: Workspace, tmp_path: Path) -> None:
    timeline, design = Timeline(), Design(station)

    class Deaf:
        def ask(self, *_: object, **__: object) -> None:
            return

    images = OpenImages(station, lambda: design.plan, Deaf(), timeline)
    images.relabel_as_new("relabelled as lobed", [1, 2, 3], "lobed")
    assert images.collection.classes == [*NAMES, "lobed"]
    assert [row.label for row in images.collection.rows[:3]] == [6, 6, 6]
    timeline.undo()
    assert images.collection.classes == NAMES
    timeline.redo()
    assert images.collection.classes == [*NAMES, "lobed"]
    images.rename_class("lobed", "tetrad")
    assert images.collection.classes[-1] == "tetrad"
    timeline.undo()
    timeline.undo()
    assert images.collection.classes == NAMES
    timeline.redo()
    timeline.redo()
    assert images.collection.classes[-1] == "tetrad"
    copy = Workspace.open(Path(shutil.copytree(station.folder, tmp_path / "copy")))
    assert copy.catalogue.former_names() == {"lobed": 6}
