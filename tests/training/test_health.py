"""Health: figures of a network made by hand, and that looking changes nothing."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from tests.training.test_loop import PREPARATION, spots

from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.images.feeding import Feed
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.layers import Connected, Flatten, Output, Relu
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.optimisers import Sgd
from attentive_lens.plan.plan import Plan
from attentive_lens.training.classifier import Classifier
from attentive_lens.training.health import HealthWatch

PLAN = NetworkPlan.stack([Flatten(), Connected(units=4), Relu(), Output()]).with_outputs(2)
NAMES = [node.name for node in PLAN.nodes]
MATRIX = NAMES[1]


def by_hand() -> Network:
    """Four units: one always on, one never, one for bright images, one never on these."""
    network = Network.start(PLAN, (2, 2, 3), 0)
    network.weights[MATRIX]["matrix"][:] = 0
    network.weights[MATRIX]["matrix"][:, 2] = 1
    network.weights[MATRIX]["bias"][:] = [2, -1, -6, -100]
    return network


def test_dead_units_and_activations_are_counted_over_all_images() -> None:
    images = np.stack([np.zeros((2, 2, 3), np.float32), np.ones((2, 2, 3), np.float32)] * 6)
    health = HealthWatch(by_hand(), NAMES).take(images, np.eye(2, dtype=np.float32)[[0, 1] * 6])
    assert health.images == 12
    assert health.dead == (None, None, 0.5, None)
    assert health.activation[0] == pytest.approx(np.sqrt(0.5), rel=1e-3)
    # the units give 2, −1, −6 or 6, and −100; the rectifier leaves 2, 0, 0 or 6, 0
    assert health.activation[1] == pytest.approx(np.sqrt((4 + 1 + 36 + 10_000) / 4), rel=1e-3)
    assert health.activation[2] == pytest.approx(np.sqrt((2 * 4 + 36) / 8), rel=1e-3)
    assert health.update == health.gradient == (None,) * 4


def test_a_unit_is_dead_that_was_silent_in_the_last_three_looks(tmp_path: Path) -> None:
    watch = HealthWatch(by_hand(), NAMES)
    wanted = np.ones((1, 2), np.float32)
    dark, bright = np.zeros((1, 2, 2, 3), np.float32), np.ones((1, 2, 2, 3), np.float32)
    shares = [watch.take(images, wanted).dead[2] for images in (bright, dark, dark, dark)]
    assert shares == [0.5, 0.5, 0.5, 0.75], "one that answered to bright images counts for two looks more"


def test_updates_and_gradients_are_told_by_the_size_of_the_weights() -> None:
    network = by_hand()
    watch = HealthWatch(network, NAMES)
    before = {MATRIX: {"matrix": np.full((12, 4), 3.0, np.float32), "bias": np.zeros(4, np.float32)}}
    for moved in (0.03, 0.3, 0.06):
        after = {MATRIX: {"matrix": before[MATRIX]["matrix"] + np.float32(moved), "bias": np.zeros(4, np.float32)}}
        watch.step(before, after, {MATRIX: np.sqrt(48) * 6})
    dark = np.zeros((1, 2, 2, 3), np.float32), np.ones((1, 2), np.float32)
    health = watch.take(*dark)
    assert health.update[1] == pytest.approx(0.02, rel=1e-2), "the median of the steps"
    assert health.gradient[1] == pytest.approx(2.0, rel=1e-3)
    assert watch.take(*dark).update[1] is None, "an epoch's steps are told once"


def test_every_epoch_has_a_step_that_is_looked_at_and_long_ones_not_many() -> None:
    watch = HealthWatch(by_hand(), NAMES)
    for batches in (*range(1, 60), 500, 20_000):
        looked = sum(watch.due(batch, batches) for batch in range(batches))
        assert 1 <= looked <= 14


def learned(watching: bool, folder: Path) -> tuple[str, Classifier]:
    pixels, labels = spots()
    preprocessor = Preprocessor.measured(pixels, PREPARATION)
    feed = Feed(pixels, labels, np.arange(40), [], preprocessor, 1, 8, 2)
    plan = replace(Plan(network=PLAN, preprocessing=PREPARATION), optimiser=Sgd(learning_rate=0.01, momentum=0.0))
    with ThreadPool(1) as thread_pool:
        network = Network.start(PLAN, PREPARATION.shape, 1)
        learner = Classifier(network, plan, preprocessor, thread_pool, examples=feed.examples if watching else None)
        for epoch in range(2):
            for number, batch in enumerate(feed.batches_of(epoch)):
                learner.learn(batch, StepContext(1, epoch, number, 0), feed.batches)
            health = learner.health(16)
            assert (health is not None) == watching
            if health is not None:  # without momentum a step is the gradient times the rate
                assert health.update[1] == pytest.approx(0.01 * (health.gradient[1] or 0), rel=1e-2)
                assert health.update[0] is None
                assert health.images == 8, "a batch, at most"
    return network.fingerprint(), learner


def test_looking_changes_nothing_of_what_is_learned(tmp_path: Path) -> None:
    assert learned(True, tmp_path)[0] == learned(False, tmp_path)[0]
