"""One way to an answer: whoever asks, with whatever company and threads, an image is answered with the same bits."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from tests.answering import answer, by
from tests.cli.running import command, last_object

import attentive_lens as al
from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.requests.explaining import Explain
from attentive_lens.desk.requests.inspecting import TryChanges
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.subjects import FileImage, RunImage
from attentive_lens.desk.training.executing import execute
from attentive_lens.engine.network import Network
from attentive_lens.engine.outputs import OUTPUTS
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadValue
from attentive_lens.explaining.probe import Probe
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.layers import BatchNormalisation, Convolution, Dropout, Flatten, Output, Relu
from attentive_lens.plan.losses import LOSSES
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.starters import STARTERS
from attentive_lens.predicting import Predictor
from attentive_lens.training.journal import read_events
from attentive_lens.workspace import Workspace

SIDE = 16
PLAIN = NetworkPlan.stack(
    [
        Convolution(filters=5),
        BatchNormalisation(),
        Relu(),
        Convolution(filters=7, stride=2),
        Relu(),
        Dropout(rate=0.5),
        Flatten(),
        Output(),
    ]
)
NETWORKS = {"plain": PLAIN, **{name: starter.network for name, starter in STARTERS.items()}}


def made(name: str, output: str, seed: int) -> Predictor:
    """An untrained network with running figures that are not their starting ones."""
    outputs = OUTPUTS[output].outputs(2)
    network = Network.start(NETWORKS[name].with_outputs(outputs), (SIDE, SIDE, 3), seed)
    random = np.random.default_rng(seed)
    for arrays in network.weights.values():
        if "variance" in arrays:
            arrays["variance"][:] = random.uniform(0.5, 2, arrays["variance"].shape)
            arrays["mean"][:] = random.normal(0, 0.3, arrays["mean"].shape)
    preprocessing = Preprocessing(input_size=SIDE, normalisation="0-1")
    return Predictor(network, Preprocessor.plain(preprocessing), ("a", "b"), output)


def shown(count: int, seed: int) -> np.ndarray:
    return np.random.default_rng(seed).integers(0, 256, (count, SIDE, SIDE, 3)).astype(np.uint8)


@settings(max_examples=25, deadline=None)
@given(
    st.sampled_from(sorted(NETWORKS)),
    st.sampled_from(sorted(OUTPUTS)),
    st.integers(1, 70),
    st.integers(1, 4),
    st.integers(0, 1000),
)
def test_company_and_threads_change_no_bit(name: str, output: str, count: int, threads: int, seed: int) -> None:
    predictor, images = made(name, output, seed), shown(count, seed)
    place = seed % count
    with np.errstate(over="raise", invalid="raise"):
        alone = predictor.answers(predictor.prepare(images[place : place + 1]))
    with ThreadPool(threads) as thread_pool:
        request = Predictor(predictor.network, predictor.preprocessor, ("a", "b"), output, thread_pool)
        together = request.answers(request.prepare(images))
        probe = Probe(request)
        explained = probe.answers(request.prepare(images[place : place + 1]))
    assert together.shape == (count, 2)
    assert np.array_equal(together[place], alone[0])
    assert np.array_equal(explained, alone)


@settings(max_examples=10, deadline=None)
@given(st.sampled_from(sorted(NETWORKS)), st.sampled_from(sorted(OUTPUTS)), st.integers(0, 100))
def test_a_written_model_answers_with_the_same_bits(
    tmp_path_factory: pytest.TempPathFactory, name: str, output: str, seed: int
) -> None:
    predictor, images = made(name, output, seed), shown(5, seed)
    network = predictor.network
    file = tmp_path_factory.mktemp("model") / "one.alens"
    ModelFile(network.plan, network.weights, predictor.preprocessor, ("a", "b"), output, network.used_kernels()).write(
        file
    )
    again = Predictor.of(read_model(file))
    assert again.output is OUTPUTS[output]
    assert np.array_equal(again.answers(again.prepare(images)), predictor.answers(predictor.prepare(images)))


def test_scores_that_are_no_numbers_are_no_answer() -> None:
    predictor = made("plain", "softmax", 0)
    for wrong in (np.nan, np.inf, -np.inf):
        with pytest.raises(BadValue, match="no answer"):
            predictor.checked(np.array([[0.0, wrong]], np.float32))
    assert predictor.checked(np.array([[0.0, 0.0]], np.float32)).tolist() == [[0.5, 0.5]]


def test_of_two_answers_that_round_to_the_same_the_greater_score_is_said() -> None:
    predictor = made("plain", "sigmoid", 0)
    scores = np.array([[40.0, 60.0], [60.0, 40.0]], np.float32)
    assert predictor.checked(scores).tolist() == [[1, 1], [1, 1]]
    assert predictor.predicted(scores).tolist() == [1, 0]


def two_kinds(folder: Path) -> Path:
    """Bright rings and dark discs, made up for two classes."""
    random = np.random.default_rng(5)
    down, across = np.mgrid[:24, :24] - 12
    far = np.hypot(down, across)
    for kind, shape in (("disc", far < 7), ("ring", (far > 5) & (far < 9))):
        (folder / kind).mkdir(parents=True)
        for k in range(20):
            pixels = random.integers(90, 160, (24, 24, 3)) + 60 * shape[:, :, None] * (1 if kind == "ring" else -1)
            Image.fromarray(pixels.clip(0, 255).astype(np.uint8)).save(folder / kind / f"{k}.png")
    return folder


@pytest.fixture(scope="module")
def losses_once(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A workspace of two classes with a run of every loss, in the order of their table."""
    folder = tmp_path_factory.mktemp("losses")
    place = finish(make_workspace(folder / "work", two_kinds(folder / "images"))).workspace
    for kind in LOSSES:
        plan = Plan(network=PLAIN).changed(
            {
                "preprocessing.input_size": SIDE,
                "training.epochs": 2,
                "training.batch_size": 8,
                "loss": kind,
                "split.test_fraction": 0.2,
            }
        )
        finish(execute(place, place.claim_run(plan), lambda: False))
    return place.folder


@pytest.mark.parametrize(("number", "kind"), list(enumerate(LOSSES, 1)))
def test_training_score_predict_explain_trust_and_python_say_the_same(
    number: int, kind: str, losses_once: Path
) -> None:
    place = Workspace.open(losses_once)
    folder = str(losses_once)
    run = place.run(number)
    model = read_model(run.model)
    assert model.output == LOSSES[kind].output
    for on in ("validation", "test"):
        scores = answer(Score(folder, number, on))
        assert scores.output == model.output
        rows = {row.number: row for row in place.catalogue.images()}
        for own in scores.answers[:4]:
            file = place.path_of(rows[own.image])
            printed = json.loads(command("predict", run.model, file, "--json").splitlines()[-1])
            name = model.classes[own.predicted]
            assert printed["predicted"] == name
            explained = answer(Explain(RunImage(folder, number, own.image), by("gradient")))
            foreign = answer(Explain(FileImage(str(file), str(run.model)), by("gradient")))
            summary = al.open_model(run.model).predict(file)[0]
            tried = answer(TryChanges(RunImage(folder, number, own.image), (), smallest=False))
            values = {
                "printed": printed["probabilities"][name],
                "explained": explained.probabilities[name],
                "foreign": foreign.probabilities[name],
                "python": summary[name],
                "map": explained.maps[0].trust.answer,
            }
            assert {key: value for key, value in values.items() if value != own.probability} == {}
            assert explained.predicted == foreign.predicted == name
            assert tried.before.probabilities[name] == own.probability


def test_the_best_epoch_s_figures_are_those_of_the_score(losses_once: Path) -> None:
    place = Workspace.open(losses_once)
    for number in range(1, len(LOSSES) + 1):
        events, _ = read_events(place.run(number).journal)
        best = [own for own in events if own.get("best")][-1]
        scores = answer(Score(str(place.folder), number, "validation"))
        assert scores.accuracy == best["validation"]["accuracy"]
        assert scores.loss == best["validation"]["loss"]


def test_one_score_for_two_classes_and_none_for_distances(losses_once: Path) -> None:
    kinds = list(LOSSES)
    binary = read_model(Workspace.open(losses_once).run(kinds.index("binary cross-entropy") + 1).model)
    assert binary.plan.nodes[-1].layer.output_shape((1,)) == (1,)
    answers = al.Model(binary).predict(sorted(losses_once.parent.glob("images/*/*.png"))[:6])
    assert all(sum(own.values()) == pytest.approx(1, abs=1e-6) for own in answers)
    distance = kinds.index("squared error") + 1
    summary = last_object(command("score", losses_once, distance, "--json"))
    assert summary["output"] == "none"
    result = answer(Explain(RunImage(str(losses_once), distance, 1), by("gradient")))
    assert result.output == "none"
    assert sum(result.probabilities.values()) != pytest.approx(1, abs=1e-6)


def test_binary_cross_entropy_refuses_a_third_class(station: Workspace) -> None:
    plan = Plan(network=PLAIN).changed({"loss": "binary cross-entropy", "training.epochs": 1})
    with pytest.raises(BadValue, match="two classes"):
        finish(execute(station, station.claim_run(plan), lambda: False))
