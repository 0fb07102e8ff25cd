"""The base that comes with the program: small, on every Shelf, and worth more than random weights on new kinds."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from attentive_lens.core.jobs import finish
from attentive_lens.desk.network.bases import with_base
from attentive_lens.desk.requests.shelf import ListShelf
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.engine.network import Network
from attentive_lens.explaining.linear_probe import linear_probe, pooled
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.motifs import MODELS
from attentive_lens.motifs.drawing import draw
from attentive_lens.motifs.kinds import kind
from attentive_lens.plan.base import Base
from attentive_lens.plan.plan import Plan
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Workspace

FILE = MODELS / "motifs.alens"
NEW, LEARNED, ASKED = range(9000, 9008), 6, 10
"""Kinds that it was not trained on, and pictures of each."""


@pytest.fixture(scope="module")
def model() -> ModelFile:
    return read_model(FILE)


def test_it_is_as_small_as_is_promised(model: ModelFile) -> None:
    facts = model.plan.facts(model.preprocessor.settings.shape)
    assert FILE.stat().st_size <= 4 << 20
    assert sum(fact.multiply_adds for fact in facts) <= 60_000_000
    assert 300_000 <= sum(fact.weights for fact in facts) <= 1_000_000
    assert model.preprocessor.settings.shape == (64, 64, 3)
    assert model.card["licence"] == "CC0-1.0"
    assert (Path(__file__).parents[2] / str(model.card["made by"]).split()[1]).exists()


def features(network: Network, model: ModelFile, pixels: np.ndarray) -> np.ndarray:
    predictor = Predictor(network, model.preprocessor, model.classes, model.output, None)
    last = model.plan.nodes[-1].after[0]
    return pooled(network.forward(predictor.prepare(pixels), watch=frozenset([last])).outputs[last])


def test_it_tells_kinds_it_never_saw_apart_where_random_weights_do_not(model: ModelFile) -> None:
    rows = [(number, image) for number in NEW for image in range(LEARNED + ASKED)]
    pixels = np.stack([draw(kind(number), number, image) for number, image in rows])
    labels = np.array([number - NEW.start for number, _ in rows])
    learned = np.array([image < LEARNED for _, image in rows])
    random = Network.start(model.plan, model.preprocessor.settings.shape, 5)
    accuracies = []
    for network in (model.network(), random):
        rows_of = features(network, model, pixels)
        classes = len(NEW)
        accuracies.append(linear_probe(rows_of[learned], labels[learned], rows_of[~learned], labels[~learned], classes))
    assert accuracies[0] > 0.7
    assert accuracies[0] > accuracies[1] + 0.2


def test_it_stands_on_every_shelf_and_is_built_on_to_the_bit(station: Workspace, model: ModelFile) -> None:
    listed = {each.name: each for each in finish(carry_out(ListShelf(str(station.folder)))).models}
    assert listed["motifs"].ships
    assert listed["motifs"].note == model.card["about"]
    plan = with_base(station, Plan(), Base(model="shelf:motifs", take_preprocessing=True))
    plan = plan.changed({"training.epochs": 1, "training.augmentation_variants": 1})
    assert plan.name == "new head on motifs"
    run = station.claim_run(plan)
    finish(execute(station, run, lambda: False))
    trained = read_model(run.model)
    frozen = [name for name in model.weights if name in plan.frozen]
    assert len(frozen) > 15
    for name in frozen:
        for key, array in model.weights[name].items():
            assert np.array_equal(trained.weights[name][key], array), (name, key)
