"""Needs that had no place: how a layer is drawn at first, models kept for good, depth, top-5 by class, all weights."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.answering import answer
from tests.cli.running import command, last_object
from tests.conftest import small_plan

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.requests.images import OpenPicture
from attentive_lens.desk.training.executing import execute
from attentive_lens.engine.network import Network
from attentive_lens.formats.reading import read_model
from attentive_lens.images.stored import of_values, stored_values
from attentive_lens.plan.difference import settings_of
from attentive_lens.plan.initialisations import INITIALISATIONS, Constant
from attentive_lens.plan.nodes import AS_PLANNED
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.text import read_text
from attentive_lens.scoring.measures import TOP, per_class
from attentive_lens.scoring.scores import scored
from attentive_lens.workspace import Workspace


def test_a_layer_is_drawn_in_a_way_of_its_own_and_the_others_are_as_planned() -> None:
    plan = small_plan()
    first = plan.network.nodes[0]
    for kind in INITIALISATIONS:
        learning = first.learning.with_(initialisation=kind)
        network = replace(plan.network, nodes=(replace(first, learning=learning), *plan.network.nodes[1:]))
        drawn = Network.start(network.with_outputs(3), plan.preprocessing.shape, 5)
        usual = Network.start(plan.network.with_outputs(3), plan.preprocessing.shape, 5)
        as_kind = Network.start(
            plan.network.with_outputs(3), plan.preprocessing.shape, 5, initialisation=INITIALISATIONS[kind]()
        )
        for name, arrays in drawn.weights.items():
            same = as_kind if name == first.name else usual
            for key, array in arrays.items():
                assert np.array_equal(array, same.weights[name][key]), (kind, name, key)
        again = plan.with_network(network)
        assert Plan.read(again.write()) == again
        assert ("initialisation" in str(again.write()["network"][0])) == (kind != AS_PLANNED)
        assert f"initialisation {kind}" in settings_of(again)[f"network.{first.name}"]
    assert first.learning.initialisation == AS_PLANNED
    assert Constant.kind in INITIALISATIONS


def test_the_way_a_layer_is_drawn_stands_in_a_plan_s_text() -> None:
    text = 'format = 1\n[[network]]\nlayer = "flatten"\n[[network]]\nlayer = "output"\ninitialisation = "orthogonal"\n'
    reading = read_text(text)
    assert reading.nodes is not None
    assert reading.nodes[-1].learning.initialisation == "orthogonal"
    assert read_text(text.replace("orthogonal", "nothing")).faults


@pytest.mark.parametrize(("every", "last", "saved"), [(2, 0, [2, 4]), (0, 2, [4, 5]), (2, 1, [2, 4, 5]), (0, 0, [])])
def test_models_are_kept_every_few_epochs_and_of_the_last(
    station: Workspace, every: int, last: int, saved: list[int]
) -> None:
    settings = {"training.epochs": 5, "training.keep_every": every, "training.keep_last": last}
    run = station.claim_run(small_plan().changed({"preprocessing.input_size": 16, **settings}))
    finish(execute(station, run, lambda: False))
    assert sorted(file.name for file in run.checkpoints.glob("epoch-*")) == [f"epoch-{k:04d}.alens" for k in saved]
    for number in saved:
        assert read_model(run.checkpoints / f"epoch-{number:04d}.alens").card["epoch"] == number


def test_values_and_depth_are_those_of_the_file(tmp_path: Path) -> None:
    values = np.arange(64, dtype=np.uint16).reshape(8, 8) * 60
    for name in ("a", "b"):
        (tmp_path / "p" / name).mkdir(parents=True)
        for k in range(2):
            Image.fromarray(values).save(tmp_path / "p" / name / f"{k}.png")
    workspace = finish(make_workspace(tmp_path / "work", tmp_path / "p")).workspace
    picture = answer(OpenPicture(str(workspace.folder), 1))
    assert (picture.low, picture.high, picture.bits) == (0, 3780, 16)
    for mode, bits in (("1", 1), ("L", 8), ("RGB", 8), ("P", 8), ("F", 32)):
        file = tmp_path / ("x.tiff" if mode == "F" else "x.png")
        Image.new(mode, (4, 4), 1).save(file)
        stored = stored_values(file)
        assert stored is not None
        assert stored.bits == bits
    assert of_values(np.array([[3, 9]], np.float64)).bits == 64
    assert stored_values(tmp_path / "nothing") is None


def test_top_five_of_a_class_counts_where_its_own_class_ranks() -> None:
    random = np.random.default_rng(3)
    true, answers = random.integers(0, 8, 200), random.random((200, 8)).astype(np.float32)
    names = [f"type {k}" for k in range(8)]
    scores = scored("test", names, list(range(1, 201)), true, answers.argmax(axis=1), answers, np.zeros(200), "any")
    for k, each in enumerate(per_class(scores)):
        own = true == k
        ranks = (answers[own] > answers[own, k][:, None]).sum(axis=1)
        assert each.top5 == pytest.approx((ranks < TOP).mean())
    few = scored("test", names[:4], [1, 2], np.array([0, 1]), np.array([0, 0]), answers[:2, :4], np.zeros(2), "any")
    assert [each.top5 for each in per_class(few)] == [None] * 4


def test_all_weights_are_written_in_one_archive(station: Workspace, tmp_path: Path) -> None:
    file = tmp_path / "weights.npz"
    result = last_object(command("numbers", station.folder, 1, "all", "--out", file, "--json"))
    model = read_model(station.run(1).model)
    with np.load(file) as arrays:
        assert set(arrays.files) == {f"{node}/{name}" for node, own in model.weights.items() for name in own}
        assert all(
            np.array_equal(arrays[key], model.weights[key.rpartition("/")[0]][key.rpartition("/")[2]])
            for key in arrays.files
        )
        assert result["numbers"] == sum(arrays[key].size for key in arrays.files)
    command("numbers", station.folder, 1, "all", "--json", code=2)
    assert [each.name for each in tmp_path.iterdir() if each.name.startswith(".")] == []
