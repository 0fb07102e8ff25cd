"""A base may come from this workspace, another one or a model file, and is asked beforehand whether it can help."""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from tests.answering import answer

from attentive_lens.core.jobs import finish
from attentive_lens.desk.network.bases import base_file, base_model, with_base, without_base
from attentive_lens.desk.network.checking import faults_of
from attentive_lens.desk.network.design import Design
from attentive_lens.desk.requests.bases import ProbeBase, ProbedLayer
from attentive_lens.desk.tasks.probing import advice_of
from attentive_lens.desk.training.executing import execute
from attentive_lens.errors import BadValue, LensError
from attentive_lens.explaining.linear_probe import linear_probe, pooled
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.base import Base
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace


@pytest.fixture
def elsewhere(station: Workspace, tmp_path: Path) -> Path:
    """A second workspace with a run, beside the first."""
    return Path(shutil.copytree(station.folder, tmp_path / "meadow"))


def test_a_run_of_another_workspace_and_a_model_file_are_taken_by_path(station: Workspace, elsewhere: Path) -> None:
    file = elsewhere / "runs" / "0001" / "checkpoints" / "best.alens"
    for model, words in (
        (str(elsewhere), "run 1 of meadow"),
        (str(file), "best.alens"),
        ("../meadow", "run 1 of meadow"),
    ):
        base = Base(until="max pooling 2", model=model)
        assert base.words == words
        assert base_file(station, base).resolve() == file.resolve()
        plan = with_base(station, Plan(seed=5), base)
        assert plan.name == f"two blocks on {words}"
        assert Plan.read(plan.write()) == plan
        assert without_base(plan).name == "two blocks"
        held = base_model(station, plan)
        assert held is not None
        assert held.weights.keys() == read_model(file).weights.keys()


def test_a_base_that_names_no_layer_is_taken_up_to_the_last_with_rows_and_columns(station: Workspace) -> None:
    plan = with_base(station, Plan(), Base(1))
    assert plan.base is not None
    assert plan.base.until == "max pooling 2"
    assert with_base(station, plan, Base(1, "relu 1")).name == "two blocks on run 1"


def test_the_statistics_are_those_of_the_training_images_or_the_base_s(station: Workspace, elsewhere: Path) -> None:
    other = Workspace.open(elsewhere)
    plan = with_base(
        station, Plan().changed({"training.epochs": 1, "augmentation": "none"}), Base(model=str(elsewhere))
    )
    assert plan.base is not None
    for statistics in ("base", "training images"):
        base = replace(plan.base, statistics=statistics)
        run = other.claim_run(replace(plan, base=base, seed=40 if statistics == "base" else 41))
        finish(execute(other, run, lambda: False))
        trained, theirs = read_model(run.model), read_model(other.run(1).model)
        assert (trained.preprocessor == theirs.preprocessor) == (statistics == "base")


def test_what_is_no_model_is_told_in_words(station: Workspace, tmp_path: Path) -> None:
    with pytest.raises(LensError, match="there is no such file"):
        with_base(station, Plan(), Base(model=str(tmp_path / "gone.alens")))
    with pytest.raises(LensError, match="workspace"):
        with_base(station, Plan(), Base(model=str(tmp_path)))
    with pytest.raises(BadValue, match="it names no layer"):
        Plan(base=Base(1))
    with pytest.raises(BadValue, match="The plan has no base"):
        answer(ProbeBase(str(station.folder), Plan().write()))


def test_a_probe_says_what_each_layer_knows(station: Workspace) -> None:
    plan = with_base(station, Plan(), Base(1, "relu 1"))
    probed = answer(ProbeBase(str(station.folder), plan.write(), quick=True))
    assert (probed.chosen.layer, probed.chosen.statistics) == ("relu 1", "training images")
    assert {layer.layer for layer in probed.layers} >= {"relu 1", "max pooling 2"}
    assert {layer.statistics for layer in probed.layers} == {"base", "training images"}
    assert probed.best.accuracy == max(layer.accuracy for layer in probed.layers) > probed.pixels - 0.2
    assert probed.images > 20
    assert f"{probed.chosen.accuracy:.0%}" in probed.advice
    assert answer(ProbeBase(str(station.folder), plan.write(), quick=True)) == probed
    other = with_base(station, Plan(seed=77), Base(1, "relu 1"))
    seen = answer(ProbeBase(str(station.folder), other.write(), quick=True))
    assert seen.judged_by == seen.images, "of another split's validation images the base learned from most"


def test_advice_follows_the_accuracies() -> None:
    chosen, better = ProbedLayer("relu 3", "base", 0.48), ProbedLayer("relu 2", "training images", 0.66)
    assert "knows no more" in advice_of("run 1", chosen, replace(better, accuracy=0.53), 0.52, 0.28, 300)
    result = advice_of("run 1", chosen, better, 0.52, 0.28, 300)
    assert "Better is «relu 2» with the statistics of the training images: 66%." in result
    assert "comes to about that" in advice_of("run 1", better, better, 0.52, 0.28, 300)


def test_a_linear_probe_learns_what_is_linear_and_nothing_from_noise() -> None:
    random = np.random.default_rng(1)
    labels = np.arange(120) % 3
    features = random.normal(0, 1, (120, 20)).astype(np.float32)
    noise = linear_probe(features[:80], labels[:80], features[80:], labels[80:], 3)
    assert noise < 0.6
    features[np.arange(120), labels] += 4
    assert linear_probe(features[:80], labels[:80], features[80:], labels[80:], 3) > 0.9
    assert linear_probe(features[:80], labels[:80], features[:0], labels[:0], 3) > 0.9, "by leaving one out"


def test_leaving_one_out_in_closed_form_is_that_of_fitting_anew() -> None:
    random = np.random.default_rng(4)
    labels = np.arange(24) % 2
    features = (random.normal(0, 1, (24, 5)) + labels[:, None]).astype(np.float64)
    known = (features - features.mean(axis=0)) / (features.std(axis=0) + 1e-6) / np.sqrt(5)
    best = 0.0
    for penalty in (1e-3, 1e-2, 1e-1, 1.0, 10.0):
        right = 0
        for k in range(24):
            rest = np.delete(np.arange(24), k)
            gram = known[rest] @ known[rest].T + penalty * np.eye(23)
            weights = np.linalg.solve(gram, np.eye(2)[labels[rest]] - 0.5)
            right += int((known[k] @ known[rest].T @ weights).argmax() == labels[k])
        best = max(best, right / 24)
    assert linear_probe(features, labels, features[:0], labels[:0], 2) == pytest.approx(best)


def test_feature_maps_are_averaged_over_cells() -> None:
    outputs = np.arange(2 * 6 * 5 * 3, dtype=np.float32).reshape(2, 6, 5, 3)
    rows = pooled(outputs)
    assert rows.shape == (2, 4 * 4 * 3)
    assert rows[0, :3] == pytest.approx(outputs[0, 0:1, 0:1].mean(axis=(0, 1)))
    assert rows[1, -3:] == pytest.approx(outputs[1, 4:6, 3:5].mean(axis=(0, 1)))
    assert pooled(outputs[:, :2, :2]).shape == (2, 12)
    assert pooled(outputs[:, 0, 0]).shape == (2, 3)


def test_a_base_that_does_not_fit_is_a_fault_on_its_plate_with_repairs_that_mend_it(station: Workspace) -> None:
    design = Design(station, lambda: 3)
    design.change(with_base(station, Plan(), Base(1, "max pooling 2")))
    assert design.sound
    wider = tuple(
        replace(node, layer=node.layer.with_(filters=9)) if node.name == "convolution 1" else node
        for node in design.nodes
    )
    design.edit(wider, "filters")
    assert [(fault.node, fault.kind) for fault in design.faults] == [
        ("convolution 1", "base"),
        ("convolution 2", "base"),
    ]
    assert not design.sound
    first = design.faults[0]
    assert "another shape" in first.error.why
    words = [remedy.words for remedy in design.remedies(first)]
    assert words == ["Make convolution 1 as it is there", "Build on no model"]
    for remedy in design.remedies(first):
        design.repair(remedy)
        assert design.sound, remedy.words
        design.undo()
    assert [remedy.words for remedy in design.remedies(design.faults[1])] == [
        "Take over up to max pooling 1",
        "Build on no model",
    ]


def test_a_base_that_is_gone_and_comes_back_is_seen_without_an_edit(station: Workspace, elsewhere: Path) -> None:
    file = elsewhere / "runs" / "0001" / "checkpoints" / "best.alens"
    design = Design(station, lambda: 3)
    design.change(with_base(station, Plan(), Base(until="max pooling 2", model=str(file))))
    assert design.sound
    aside = file.rename(file.with_name("aside.alens"))
    (fault,) = design.faults
    assert fault.node == ""
    assert "no such file" in fault.error.why
    (line,) = faults_of(design.text, 3, station)
    assert line.line == 0
    assert line.repairs == ("Build on no model",)
    assert not faults_of(design.text, 3), "without a workspace it is not looked at"
    aside.rename(file)
    assert design.sound


def test_other_preprocessing_is_a_fault_that_taking_it_over_mends(station: Workspace) -> None:
    design = Design(station, lambda: 3)
    plan = with_base(station, Plan(), Base(1, "max pooling 2"))
    design.change(plan.changed({"preprocessing.normalisation": "0-1"}))
    (fault,) = design.faults
    remedy = design.remedies(fault)[0]
    assert remedy.words == "Take over its preprocessing"
    design.repair(remedy)
    assert design.sound
    assert design.plan.base is not None
    assert design.plan.base.take_preprocessing


def test_a_linear_probe_does_not_mind_the_units_of_its_features() -> None:
    random = np.random.default_rng(2)
    labels = np.arange(90) % 3
    features = random.normal(0, 1, (90, 12))
    features[np.arange(90), labels] += 1.5
    plain = linear_probe(features[:60], labels[:60], features[60:], labels[60:], 3)
    scaled = features * 10.0 ** random.integers(-4, 5, 12) + random.normal(0, 100, 12)
    assert plain > 0.6
    assert linear_probe(scaled[:60], labels[:60], scaled[60:], labels[60:], 3) == pytest.approx(plain, abs=0.04)
