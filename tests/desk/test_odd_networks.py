"""What is asked of networks that have nothing to show: no feature maps, one output, no gradient anywhere."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.answering import answer, by, change

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.requests.activity import LayerActivity
from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.explaining import Activations, Explain, Trust
from attentive_lens.desk.requests.inspecting import Channels, Layer, Neighbours, TryChanges
from attentive_lens.desk.requests.maps import ClassMaps, Maps
from attentive_lens.desk.requests.numbers import LayerNumbers
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.training.executing import execute
from attentive_lens.errors import LensError
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.layers import Convolution, Flatten, Output, Relu
from attentive_lens.plan.layers.connected import Connected
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace

DENSE = NetworkPlan.stack([Flatten(), Connected(units=8), Relu(), Output()])
PLAIN = NetworkPlan.stack([Convolution(filters=4), Relu(), Flatten(), Output()])
CHANGE = change("noise", deviation=0.1)


def trained(folder: Path, network: NetworkPlan, classes: int = 3, **settings: object) -> Workspace:
    """A run of one epoch on noise of some hues."""
    random = np.random.default_rng(0)
    for k in range(classes):
        place = folder / "images" / f"hue {k}"
        place.mkdir(parents=True)
        for n in range(12):
            pixels = random.integers(0, 100, (16, 16, 3)).astype(np.uint8)
            pixels[:, :, k] += 120
            Image.fromarray(pixels).save(place / f"{n}.png")
    station = finish(make_workspace(folder / "work", folder / "images")).workspace
    usual = {"preprocessing.input_size": 16, "training.epochs": 1, "augmentation": "none"}
    finish(execute(station, station.claim_run(Plan(network=network).changed({**usual, **settings})), lambda: False))
    return station


def everything(folder: str, layer: str) -> list[Request[object]]:
    return [
        Explain(RunImage(folder, 1, 5)),
        Maps(RunImage(folder, 1, 5)),
        Activations(RunImage(folder, 1, 5)),
        LayerActivity(folder, 1, layer),
        LayerNumbers(folder, 1, layer, image=5),
        Channels(RunImage(folder, 1, 5), layer),
        Neighbours(RunImage(folder, 1, 5), layer),
        TryChanges(RunImage(folder, 1, 5), (CHANGE,), method=by("gradient")),
        Trust(RunImage(folder, 1, 5), by("gradient"), agreement=False),
    ]


def test_a_network_without_feature_maps_is_explained_by_all_that_needs_none(tmp_path: Path) -> None:
    folder, layer = str(trained(tmp_path, DENSE).folder), "fully connected 1"
    for request in everything(folder, layer):
        assert answer(request) is not None
    made = answer(Maps(RunImage(folder, 1, 5)))
    refused = {each.method.kind: each.refused for each in made.maps if each.values is None}
    assert set(refused) == {"class_activation"}
    assert "no feature maps" in refused["class_activation"]
    for request in (Explain(RunImage(folder, 1, 5), by("class_activation")), Layer(folder, 1, layer)):
        with pytest.raises(LensError, match="no feature maps"):
            answer(request)


def test_a_network_with_one_output_is_asked_in_every_way(tmp_path: Path) -> None:
    station = trained(tmp_path, PLAIN, 2, **{"loss.kind": "binary cross-entropy"})
    for request in everything(str(station.folder), "convolution 1"):
        assert answer(request) is not None
    seen = answer(LayerNumbers(str(station.folder), 1, "output", image=5))
    assert seen.values.shape[-1] == 1
    assert seen.gradient is not None
    assert seen.gradient.shape == seen.values.shape


def test_gradients_that_are_zero_everywhere_are_said_not_drawn(tmp_path: Path) -> None:
    station = trained(tmp_path, PLAIN)
    run = station.run(1)
    model = read_model(run.model)
    weights = {
        node: {name: array * (node != "output") for name, array in own.items()} for node, own in model.weights.items()
    }
    replace(model, weights=weights).write(run.model)
    folder = str(station.folder)
    for request in everything(folder, "convolution 1"):
        assert answer(request) is not None
    result = answer(Explain(RunImage(folder, 1, 5)))
    assert all(each.trust.empty and not each.values.any() for each in result.maps)
    assert result.regions == ()
    made = answer(Maps(RunImage(folder, 1, 5)))
    assert all(each.passed is None for each in made.maps if not each.values.any())
    for each in answer(ClassMaps(folder, 1, "training")).classes:
        assert "zero everywhere" in each.words
        assert not each.map.any()
