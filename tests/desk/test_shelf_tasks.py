"""Models on the Shelf: put there with their scores, built on, proved, and what was built on them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from tests.cli.running import command, last_object

from attentive_lens.core.jobs import finish
from attentive_lens.desk.history import Timeline
from attentive_lens.desk.network.bases import base_model, with_base
from attentive_lens.desk.requests.exporting import ExportModel
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.shelf import (
    EditShelf,
    ListShelf,
    PutOnShelf,
    ShelfModel,
    VerifyOnShelf,
)
from attentive_lens.desk.shelf.state import OpenShelf
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.tasks.verifying import cooled
from attentive_lens.desk.training.executing import execute
from attentive_lens.errors import BadUsage, LensError, NotHere
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.base import Base
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Correction, Workspace


def listed(station: Workspace) -> dict[str, ShelfModel]:
    return {model.name: model for model in finish(carry_out(ListShelf(str(station.folder)))).models}


def put(station: Workspace, model: object = 1, **more: str) -> str:
    return finish(carry_out(PutOnShelf(str(station.folder), str(model), **more))).name


def test_a_run_stands_there_with_its_test_score(station: Workspace) -> None:
    name = put(station, name="first", note="two epochs")
    model = listed(station)[name]
    score = finish(carry_out(Score(str(station.folder), 1, "test")))
    assert (model.on, model.images, model.accuracy, model.loss) == ("test", score.images, score.accuracy, score.loss)
    assert model.low is not None
    assert model.high is not None
    assert model.low < score.accuracy < model.high
    assert model.origin == f"run 1 of {station.name}"
    assert (model.note, model.ships, model.problem, model.input_size, model.channels) == (
        "two epochs",
        False,
        "",
        (32, 32),
        3,
    )
    stored = read_model(station.run(1).model)
    assert model.weights == sum(a.size for arrays in stored.weights.values() for a in arrays.values())
    assert model.classes == stored.classes
    assert model.plates[0] == (32, 3)
    assert model.plates[-1] == (1, 6)
    assert put(station) == "two blocks", "without a name it is that of its plan"
    assert put(station) == "two blocks 2"
    text = command("shelf", station.folder)
    assert "first: two epochs" in text


def test_what_is_built_on_it_is_told_under_every_name_it_had(station: Workspace) -> None:
    name = put(station, name="ground")
    plan = with_base(station, Plan().changed({"training.epochs": 1}), Base(model="shelf:ground"))
    assert plan.base is not None
    assert plan.base.words == "ground"
    assert plan.name.endswith(" on ground")
    run = station.claim_run(plan)
    finish(execute(station, run, lambda: False))
    kernel = read_model(run.model).weights["convolution 1"]["kernel"]
    assert np.array_equal(kernel, read_model(station.run(1).model).weights["convolution 1"]["kernel"]), "it is frozen"
    assert listed(station)[name].built == (2,)
    finish(carry_out(EditShelf(str(station.folder), name, rename="soil")))
    assert listed(station)["soil"].built == (2,)
    again = base_model(station, station.run(2).plan())
    assert again is not None, "the plan that ran can still be trained anew"
    second = put(station, 2, name="second")
    assert listed(station)[second].base == "ground"


def test_the_stored_figure_is_confirmed_to_the_last_digit_or_not(station: Workspace) -> None:
    name = put(station, name="first")
    request = VerifyOnShelf(str(station.folder), name)
    result = finish(carry_out(request))
    assert result.same
    assert (result.accuracy, result.loss) == (result.stored_accuracy, result.stored_loss)
    assert "to the last digit" in command("shelf-verify", station.folder, name)
    file = station.shelf.model(name).file
    cooled(read_model(file), 1.25).write(file)
    other = finish(carry_out(request))
    assert not other.same
    assert other.accuracy == other.stored_accuracy
    assert other.loss != other.stored_loss
    assert "other figures" in " ".join(other.words())


def test_a_label_changed_since_is_no_proof(station: Workspace) -> None:
    name = put(station, name="first")
    score = finish(carry_out(Score(str(station.folder), 1, "test")))
    (image, *_) = score.numbers.tolist()
    label = station.catalogue.images()[image - 1].label
    station.catalogue.correct({image: Correction(label=(label + 1) % 6)})
    assert not finish(carry_out(VerifyOnShelf(str(station.folder), name))).same


def test_files_of_this_program_and_of_others_come_in(station: Workspace, tmp_path: Path) -> None:
    for ending in (".onnx", ".alens"):
        file = tmp_path / f"grains{ending}"
        finish(carry_out(ExportModel(str(station.folder), "1", str(file), sample=0)))
        name = put(station, file)
        model = listed(station)[name]
        assert model.origin == f"the file grains{ending}"
        assert model.accuracy is None
        verified = finish(carry_out(VerifyOnShelf(str(station.folder), name)))
        assert verified.stored_accuracy is None
        assert listed(station)[name].accuracy == verified.accuracy, "what was scored first is stored"
    assert {"grains", "grains 2"} <= listed(station).keys()


def test_a_file_that_is_no_model_is_refused_and_nothing_is_left(station: Workspace, tmp_path: Path) -> None:
    (tmp_path / "a.alens").write_text("no model")
    (tmp_path / "a.onnx").write_text("no model")
    for wrong in (tmp_path / "a.alens", tmp_path / "a.onnx", tmp_path / "none.alens", 7):
        with pytest.raises(LensError):
            put(station, wrong)
    assert not [model for model in listed(station).values() if not model.ships]


def test_a_damaged_model_says_so_and_the_others_stand(station: Workspace) -> None:
    put(station, name="good")
    put(station, name="bad")
    station.shelf.model("bad").file.write_bytes(b"PK")
    models = listed(station)
    assert models["bad"].problem
    assert not models["good"].problem
    assert "bad" in command("shelf", station.folder)


def test_one_thing_is_done_at_a_time(station: Workspace) -> None:
    name = put(station, name="first")
    for wishes in ({}, {"rename": "b", "off": True}):
        with pytest.raises(BadUsage, match="one thing"):
            finish(carry_out(EditShelf(str(station.folder), name, **wishes)))
    assert last_object(command("shelf-edit", station.folder, name, "--note", "fine", "--json"))["name"] == name
    assert listed(station)[name].note == "fine"
    command("shelf-edit", station.folder, name, "--note", "-")
    assert listed(station)[name].note == ""
    command("shelf-edit", station.folder, name, "--off")
    assert name not in listed(station)
    with pytest.raises(NotHere):
        with_base(station, Plan(), Base(model=f"shelf:{name}"))
    command("shelf-edit", station.folder, name, "--restore")
    assert name in listed(station)


class Asked:
    """Carries every request out at once."""

    def ask(self, request, done, failed=None, priority=5, scope=""):  # type: ignore[no-untyped-def]
        try:
            result = finish(carry_out(request))
        except LensError as error:
            failed(str(error))
        else:
            done(result)


def test_all_that_is_done_to_it_can_be_undone_and_done_again(station: Workspace) -> None:
    timeline, names = Timeline(), []
    shelf = OpenShelf(station, Asked(), timeline)
    shelf.put("1", names.append)
    (first,) = names

    def state() -> list[tuple[str, str]]:
        return [(model.name, model.note) for model in shelf.models or () if not model.ships]

    states = [[], state()]
    shelf.note(first, "mine")
    states.append(state())
    assert shelf.rename(first, "ground")
    states.append(state())
    shelf.take_off("ground")
    states.append(state())
    assert states == [[], [(first, "")], [(first, "mine")], [("ground", "mine")], []]
    for before in reversed(states[:-1]):
        assert timeline.undo()
        assert state() == before
    for after in states[1:]:
        assert timeline.redo()
        assert state() == after
