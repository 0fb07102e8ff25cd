"""Averaged weights: means written out, what is judged, what is kept, and their running statistics."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from tests.training.test_loop import PREPARATION, spots
from tests.training.test_resume import HELD, PLAN, TRAINING, train

from attentive_lens.desk.network.design import price_in_memory
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.formats.reading import read_checkpoint
from attentive_lens.images.feeding import Feed
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.averaging import AVERAGING as SETTINGS
from attentive_lens.plan.averaging import ExponentialMovingAverage, StochasticWeightAveraging
from attentive_lens.plan.plan import Plan
from attentive_lens.training.averaging import AVERAGING, EpochAverage, MovingAverage
from attentive_lens.training.classifier import Classifier


def weights(value: float) -> dict[str, dict[str, np.ndarray]]:
    return {"layer": {"kernel": np.full((2, 3), value, np.float32)}}


def test_every_kind_has_its_arithmetic() -> None:
    assert AVERAGING.keys() == SETTINGS.keys()


def test_the_mean_counts_in_the_memory_that_a_run_needs() -> None:
    needed = {kind: price_in_memory(Plan().changed({"averaging": kind}), 6, 60)[0] for kind in SETTINGS}
    plain = needed.pop("none")
    assert all(more > plain for more in needed.values())


@given(st.lists(st.floats(-4, 4, width=32), min_size=1, max_size=30), st.floats(0, 0.99))
def test_a_moving_average_is_the_weighted_mean_of_all_steps(values: list[float], decay: float) -> None:
    mean = MovingAverage(ExponentialMovingAverage(decay=decay))
    for value in values:
        mean.after_step(weights(value))
    factors = decay ** np.arange(len(values))[::-1].astype(float)
    assert mean.weights is not None
    assert mean.weights["layer"]["kernel"] == pytest.approx(float(np.average(values, weights=factors)), abs=1e-4)


@given(st.lists(st.floats(-4, 4, width=32), min_size=1, max_size=12), st.floats(0, 1))
def test_an_epoch_average_is_the_plain_mean_of_the_last_epochs(values: list[float], start: float) -> None:
    mean = EpochAverage(StochasticWeightAveraging(start=start))
    fractions = [(k + 1) / len(values) for k in range(len(values))]
    for value, fraction in zip(values, fractions, strict=True):
        mean.after_epoch(weights(value), fraction)
    taken = [value for value, fraction in zip(values, fractions, strict=True) if fraction > start or fraction == 1]
    assert mean.count == len(taken)
    assert mean.weights is not None
    assert mean.weights["layer"]["kernel"] == pytest.approx(float(np.mean(taken)), abs=1e-5)


@pytest.mark.parametrize("kind", [kind for kind in SETTINGS if kind != "none"])
def test_the_averaged_weights_are_judged_and_kept_and_the_others_trained_on(kind: str, tmp_path: Path) -> None:
    own = {"start": 0.0} if kind == "stochastic weight averaging" else {}
    train(tmp_path / "plain", "adam", "cosine")
    train(tmp_path / "mean", "adam", "cosine", averaging=SETTINGS[kind](**own), training=TRAINING.with_(keep_last=1))
    folder = tmp_path / "mean" / "checkpoints"
    plain, mean = (read_checkpoint(tmp_path / name / "checkpoints" / "last.alens") for name in ("plain", "mean"))
    stored = read_checkpoint(folder / "epoch-0003.alens").weights["convolution 1"]["kernel"]
    assert plain.weights["convolution 1"]["kernel"].tobytes() == mean.weights["convolution 1"]["kernel"].tobytes()
    assert stored.tobytes() == mean.optimiser["convolution 1/kernel/average"].tobytes()
    assert stored.tobytes() != mean.weights["convolution 1"]["kernel"].tobytes()


def test_running_statistics_of_an_epoch_average_are_those_of_the_training_images() -> None:
    pixels, labels = spots()
    preprocessor = Preprocessor.measured(pixels[HELD:], PREPARATION)
    feed = Feed(pixels, labels, np.arange(HELD, len(labels)), [], preprocessor, 1, 8, 2)
    settings = StochasticWeightAveraging(start=0.0)
    plan = replace(Plan(network=PLAN, preprocessing=PREPARATION), averaging=settings)
    with ThreadPool(1) as thread_pool:
        network = Network.start(PLAN, PREPARATION.shape, 1)
        learner = Classifier(network, plan, preprocessor, thread_pool, examples=feed.examples)
        for number, batch in enumerate(feed.batches_of(0)):
            learner.learn(batch, StepContext(1, 0, number, 0), feed.batches)
        learner.before_evaluation(0.5)
        model = learner.model()
    name = next(node.name for node in PLAN.nodes if node.layer.kind == "batch normalisation")
    source = next(node.after[0] for node in PLAN.nodes if node.name == name)
    averaged = Network(PLAN, PREPARATION.shape, model)
    images = preprocessor.apply(pixels[HELD:])
    values = averaged.forward(images, watch=frozenset({source})).outputs[source].reshape(-1, 4)
    assert model[name]["mean"] == pytest.approx(values.mean(axis=0), rel=1e-3, abs=1e-4)
    assert model[name]["variance"] == pytest.approx(values.var(axis=0, ddof=1), rel=1e-3)
    assert network.weights[name]["mean"] != pytest.approx(values.mean(axis=0), rel=1e-2), "those that train stay"
