"""Dropout at work strikes out what its rate says and nothing else, and the answers' range is that of its draws."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from tests.answering import answer
from tests.conftest import small_plan

from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.dropout import DropoutSeen, SeeDropout
from attentive_lens.desk.requests.subjects import FileImage, RunImage
from attentive_lens.desk.training.executing import execute
from attentive_lens.engine.network import Network
from attentive_lens.errors import NotHere
from attentive_lens.explaining.dropout import at_work
from attentive_lens.explaining.probe import Probe
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.blocks import built
from attentive_lens.plan.layers import Connected, Convolution, Dropout, Flatten, Output, Relu
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.predicting import Predictor
from attentive_lens.window.explaining.dropout_view import in_words, struck
from attentive_lens.workspace import Workspace


def probe_of(*layers: object) -> Probe:
    preprocessing = Preprocessing(input_size=8)
    plan = built([*layers, Output(units=3)])  # type: ignore[list-item]
    network = Network.start(plan, preprocessing.shape, 2)
    model = ModelFile(plan, network.weights, Preprocessor.plain(preprocessing), ("a", "b", "c"))
    return Probe(Predictor.of(model))


IMAGE = np.random.default_rng(1).random((8, 8, 3), np.float32)


@pytest.mark.parametrize("rate", [0.2, 0.5, 0.8])
def test_as_many_values_are_struck_out_as_the_rate_says_and_each_draw_is_another(rate: float) -> None:
    probe = probe_of(Convolution(8), Relu(), Dropout(rate=rate), Flatten(), Connected(50), Dropout(rate=rate))
    seen = at_work(probe, IMAGE, 40)
    assert list(seen.masks) == ["dropout 1", "dropout 2"]
    for mask in seen.masks.values():
        assert mask.mean() == pytest.approx(1 - rate, abs=0.05)
        assert len(np.unique(mask.reshape(40, -1), axis=0)) == 40
    assert seen.answers.std(axis=0).max() > 0
    assert np.array_equal(at_work(probe, IMAGE, 40).answers, seen.answers)


def test_whole_channels_drop_out_together() -> None:
    probe = probe_of(Convolution(16), Dropout(rate=0.5, unit="channel"), Flatten())
    mask = at_work(probe, IMAGE, 12).masks["dropout 1"]
    assert (mask == mask[:, :1, :1]).all()
    assert 0 < mask.mean() < 1


def test_the_answers_are_those_of_a_network_with_these_values_set_to_nothing() -> None:
    probe = probe_of(Flatten(), Connected(20), Dropout(rate=0.5))
    seen = at_work(probe, IMAGE, 5)
    weights = probe.network.weights
    name = next(node.name for node in probe.network.plan.nodes if node.layer.kind == "fully connected")
    matrix, last = (next(a for a in weights[each].values() if a.ndim == 2) for each in (name, "output"))
    hidden = IMAGE.reshape(-1) @ matrix + weights[name]["bias"]
    masked = hidden * seen.masks["dropout 1"] * 2
    raw = masked @ last + weights["output"]["bias"]
    expected = np.exp(raw - raw.max(axis=1, keepdims=True))
    assert seen.answers == pytest.approx(expected / expected.sum(axis=1, keepdims=True), abs=1e-5)


def test_a_run_s_dropout_is_seen_and_told_in_words(station: Workspace) -> None:
    plan = small_plan().changed({"training.epochs": 1})
    nodes = list(plan.network.nodes)
    if not any(node.layer.kind == "dropout" for node in nodes):
        pytest.fail("the starting network has dropout")
    seen = answer(SeeDropout(RunImage(str(station.folder), 1, 5)))
    assert isinstance(seen, DropoutSeen)
    words = in_words(seen)
    most = seen.classes[int(seen.answers.mean(axis=0).argmax())]
    assert words.startswith(f"Over 32 draws, as in training: {most} ")
    changed = int((seen.answers.argmax(axis=1) != seen.without.argmax()).sum())
    assert f"{changed} of 32 draws change the answer" in words
    still = replace(
        plan.network,
        nodes=tuple(replace(node, layer=Dropout(rate=0.0)) if node.layer.kind == "dropout" else node for node in nodes),
    )
    run = station.claim_run(plan.with_network(still))
    finish(execute(station, run, lambda: False))
    with pytest.raises(NotHere, match="no dropout to see"):
        answer(SeeDropout(RunImage(str(station.folder), 2, 5)))
    file = str(station.path_of(station.catalogue.images()[4]))
    of_file = answer(SeeDropout(FileImage(file, str(station.run(1).model))))
    assert np.array_equal(of_file.answers, seen.answers)


def test_a_picture_has_a_cell_for_each_value(qapp: object) -> None:
    mask = np.ones(10, np.uint8)
    mask[3] = 0
    picture = struck(mask)
    assert picture.shape == (4, 4, 3)
    same = [(picture.reshape(-1, 3)[k] == picture[0, 0]).all() for k in range(16)]
    assert same == [k != 3 and k < 10 for k in range(16)]
    whole = np.ones((5, 6, 4), np.uint8)
    whole[:, :, 1] = 0
    assert struck(whole).shape == (2, 2, 3)
    whole[0, 0, 0] = 0
    assert struck(whole).shape == (5, 6, 3)
