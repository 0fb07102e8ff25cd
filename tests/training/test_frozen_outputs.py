"""What stands before the frost line is computed once: kept outputs are the computed ones, and change no result."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from attentive_lens.core.jobs import finish
from attentive_lens.desk.training.executing import Launch, execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.engine.batches import inference
from attentive_lens.engine.network import Network
from attentive_lens.formats.reading import read_model
from attentive_lens.images.feeding import Feed
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.augmentation import Blend, Flip, Rotate
from attentive_lens.plan.base import Base
from attentive_lens.plan.blocks import Residual, built
from attentive_lens.plan.frost import frozen_part
from attentive_lens.plan.layers import (
    Add,
    BatchNormalisation,
    Convolution,
    Dropout,
    Flatten,
    GlobalPooling,
    Output,
    Relu,
)
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import Learning, Node
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.predicting import Predictor
from attentive_lens.training import frozen_outputs
from attentive_lens.training.frozen_outputs import bytes_of, outputs_of
from attentive_lens.workspace import Workspace

FROZEN = Learning(lr_multiplier=0.0)


def frozen(plan: Plan, *names: str) -> Plan:
    nodes = [replace(node, learning=FROZEN) if node.name in names else node for node in plan.network.nodes]
    return plan.with_network(replace(plan.network, nodes=tuple(nodes)))


def plain() -> Plan:
    return Plan(augmentation=()).changed({"network": "two blocks"})


def test_the_part_computed_once_reaches_as_far_as_nothing_changes() -> None:
    assert frozen_part(plain()).node == ""
    assert frozen_part(frozen(plain(), "convolution 1")).node == "max pooling 1"
    assert frozen_part(frozen(plain(), "convolution 1", "convolution 2")).node == "flatten 1"
    assert frozen_part(replace(plain(), base=Base(run=1, until="max pooling 1"))).node == "max pooling 1"
    assert frozen_part(replace(plain(), base=Base(run=1, until="max pooling 1", frozen=False))).node == ""


@pytest.mark.parametrize(
    ("plan", "why"),
    [
        (frozen(plain(), "convolution 2"), "layers before the frozen ones learn"),
        (replace(frozen(plain(), "convolution 1"), augmentation=(Flip(),)), "augmentation changes every image"),
        (replace(frozen(plain(), "convolution 1"), augmentation=(Blend(),)), "augmentation blends"),
        (
            frozen(
                Plan(augmentation=()).with_network(
                    built([Dropout(rate=0.1), Convolution(), Relu(), Flatten(), Output()])
                ),
                "convolution 1",
            ),
            "dropout stands before it",
        ),
        (
            frozen(
                Plan(augmentation=()).with_network(
                    built([Convolution(filters=4), Relu(), Residual(filters=4), GlobalPooling(), Output()])
                ),
                "convolution 2",
            ),
            "layers before",
        ),
    ],
)
def test_it_is_said_why_a_frozen_part_is_not_computed_once(plan: Plan, why: str) -> None:
    part = frozen_part(plan)
    assert part.node == ""
    assert why in part.why_not


def test_a_short_cut_across_the_frost_line_and_a_normalisation_behind_it_move_the_cut_back() -> None:
    network = built([Convolution(filters=4), Relu(), Residual(filters=4), GlobalPooling(), Output()])
    plan = frozen(Plan(augmentation=()).with_network(network), "convolution 1", "convolution 2")
    assert frozen_part(plan).node == "relu 1", "its short cut passes convolution 2"
    network = built([Convolution(filters=4), BatchNormalisation(), GlobalPooling(), Output()])
    plan = frozen(Plan(augmentation=()).with_network(network), "convolution 1")
    assert frozen_part(plan).why_not, "inference would merge the normalisation with the convolution"


def test_a_layer_behind_the_frost_line_that_reads_the_image_prevents_it() -> None:
    nodes = (
        Node("frozen", Convolution(filters=4), ("image",), FROZEN),
        Node("beside", Convolution(filters=4), ("image",)),
        Node("sum", Add(), ("frozen", "beside")),
        Node("pooled", GlobalPooling(), ("sum",)),
        Node("output", Output(), ("pooled",)),
    )
    part = frozen_part(Plan(augmentation=()).with_network(NetworkPlan(nodes)))
    assert (part.node, part.why_not) == ("", "a way leads past the frost line")


def test_variants_of_images_come_in_turn() -> None:
    pixels = np.random.default_rng(0).integers(0, 256, (6, 8, 8, 3)).astype(np.uint8)
    steps, preprocessor = (Rotate(probability=1.0),), Preprocessor.plain(Preprocessing(input_size=8))
    feed = Feed(pixels, np.zeros(6, np.int64), np.arange(6), steps, preprocessor, 5, 6, 2, variants=2)
    first, second, third = (feed.batch(epoch, 0, np.arange(6)).images for epoch in range(3))
    assert np.array_equal(first, third)
    assert not np.array_equal(first, second)
    assert np.array_equal(feed.prepared(1, 2, 5), second[2:5])


def test_what_is_kept_for_validation_is_what_the_model_answers_by() -> None:
    network = built([Convolution(filters=4), BatchNormalisation(), Relu(), Convolution(filters=6), GlobalPooling(),
                     Output()])  # fmt: skip
    whole = Network.start(network.with_outputs(3), (12, 12, 3), 5)
    random = np.random.default_rng(1)
    for name in ("mean", "variance", "scale"):
        whole.weights["batch normalisation 1"][name] += random.uniform(0.1, 0.9, 4).astype(np.float32)
    images = random.standard_normal((5, 12, 12, 3), np.float32)
    saved = outputs_of(whole, "relu 1", images, as_inference=True)
    preprocessor = Preprocessor.plain(Preprocessing(input_size=12))
    scores, ours = (Predictor(net, preprocessor, ("a", "b", "c")).raw_scores(fed)
                    for net, fed in ((whole, images), (whole.head("relu 1"), saved)))  # fmt: skip
    assert np.array_equal(scores, ours)
    assert not np.array_equal(saved, outputs_of(whole, "relu 1", images)), "merging changes the last bits"


def test_a_fixed_number_of_variants_allows_it_and_each_comes_in_turn() -> None:
    plan = replace(frozen(plain(), "convolution 1"), augmentation=(Flip(),))
    assert frozen_part(plan.changed({"training.augmentation_variants": 3})).node == "max pooling 1"


def test_kept_outputs_take_four_bytes_a_number() -> None:
    whole = Network.start(
        built([Convolution(filters=5), Relu(), GlobalPooling(), Output()]).with_outputs(3), (8, 6, 3), 1
    )
    assert bytes_of(whole, "relu 1", 7) == outputs_of(whole, "relu 1", np.zeros((7, 8, 6, 3), np.float32)).nbytes


def test_the_head_gives_what_the_whole_gives_to_the_bit() -> None:
    network = built([Convolution(filters=4), BatchNormalisation(), Relu(), Residual(filters=6, stride=2),
                     GlobalPooling(), Output()])  # fmt: skip
    whole = Network.start(network.with_outputs(3), (12, 12, 3), 5)
    images = np.random.default_rng(0).standard_normal((13, 12, 12, 3), np.float32)
    for node in ("relu 1", "add 1", "global pooling 1"):
        outputs = outputs_of(whole, node, images)
        assert np.array_equal(inference(whole.head(node), outputs), inference(whole, images))
        assert whole.head(node).weights["output"] is whole.weights["output"]


def trained(workspace: Workspace, plan: Plan) -> tuple[str, list[float]]:
    run = workspace.claim_run(plan)
    done = finish(execute(workspace, run, lambda: False))
    epochs = RunReader(run).view().epochs
    return done.weights_sha256, [epoch.validation.loss for epoch in epochs if epoch.validation is not None]


@pytest.mark.parametrize("variants", [0, 2])
def test_training_reads_kept_outputs_and_ends_as_if_they_were_computed_every_time(
    station: Workspace, variants: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    first = station.run(1).plan()
    plan = replace(
        first,
        base=Base(run=1, until="max pooling 2"),
        augmentation=(Flip(),) if variants else (),
        training=first.training.with_(epochs=3, augmentation_variants=variants),
    )
    saved = trained(station, plan)
    (file,) = (station.cache / "frozen").glob("*.npy")
    stored = np.load(file, mmap_mode="r")
    members = len(station.run(1).images()[0]) if station.run(1).images() else 0
    assert 0 < len(stored) <= members * max(1, variants)
    again = trained(station, plan)
    assert len(list((station.cache / "frozen").glob("*.npy"))) == 1, "another head reads the same file"
    monkeypatch.setattr(frozen_outputs, "BUDGET", 10)
    beyond = trained(station, plan.changed({"training.threads": 1}))
    assert saved == again
    assert saved[0] == beyond[0], "beyond the budget they are computed every time, to the same bits"
    assert saved[1] == beyond[1]
    theirs = read_model(station.run(1).model).weights["convolution 1"]["kernel"]
    ours = read_model(station.run(2).model).weights["convolution 1"]["kernel"]
    assert np.array_equal(theirs, ours)


def test_a_damaged_file_of_outputs_is_made_anew(station: Workspace) -> None:
    first = station.run(1).plan()
    plan = replace(first, base=Base(run=1, until="max pooling 2"), augmentation=())
    before = trained(station, plan)
    (file,) = (station.cache / "frozen").glob("*.npy")
    file.write_bytes(b"no array")
    assert trained(station, plan) == before
    assert np.load(file, mmap_mode="r").dtype == np.float32


def test_what_was_half_computed_when_it_was_stopped_is_not_left_behind(station: Workspace) -> None:
    first = station.run(1).plan()
    run = station.claim_run(replace(first, base=Base(run=1, until="max pooling 2"), augmentation=()))
    job = execute(station, run, lambda: False)
    folder = station.cache / "frozen"
    while next(job).doing != "computing the frozen part once":
        pass
    assert any(folder.iterdir())
    job.close()
    assert not any(folder.iterdir())


def test_who_asks_to_stop_while_outputs_are_computed_is_heard_at_once(station: Workspace) -> None:
    first = station.run(1).plan()
    run = station.claim_run(replace(first, base=Base(run=1, until="max pooling 2"), augmentation=()))
    doing: list[str] = []
    request: list[bool] = []
    job = execute(station, run, lambda: bool(request))
    for progress in job:
        doing.append(progress.doing)
        if progress.doing == "computing the frozen part once":
            request.append(True)
    assert doing.count("computing the frozen part once") == 1
    assert RunReader(run).view().state == "stopped"
    assert not list((station.cache / "frozen").glob("*"))
    finish(execute(station, run, lambda: False, Launch(resume=True)))
    assert RunReader(run).view().state == "done"


def test_the_oldest_outputs_make_room_for_new_ones(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("a", "b", "c"):
        (tmp_path / f"{name}.npy").write_bytes(bytes(100))
    monkeypatch.setattr(frozen_outputs, "BUDGET", 350)
    assert frozen_outputs._make_room(tmp_path, 120)
    assert len(list(tmp_path.glob("*.npy"))) == 2
    assert not frozen_outputs._make_room(tmp_path, 400)
