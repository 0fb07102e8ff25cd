"""What training is said to take is what it takes."""

from __future__ import annotations

import tracemalloc
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np
import pytest

from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.images.feeding import Feed
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.base import Base
from attentive_lens.plan.memory import PROGRAM, training_memory
from attentive_lens.plan.plan import Plan
from attentive_lens.training.classifier import Classifier

CLASSES, IMAGES, SIDE = 5, 64, 96
PLAIN = {"network": "two blocks", "preprocessing.input_size": SIDE, "training.threads": 2}


def foreseen(plan: Plan, validation: int = IMAGES) -> int:
    """Bytes beside the process's own."""
    network = plan.network.with_outputs(CLASSES)
    return training_memory(plan, network.facts(plan.preprocessing.shape), validation) - PROGRAM


def taken(plan: Plan) -> int:
    """Bytes of arrays that are there at most while two epochs are trained and images evaluated, by a thread anew."""
    with ThreadPoolExecutor(1) as fresh:  # working buffers are each thread's own
        return fresh.submit(_taken, plan).result()


def _taken(plan: Plan) -> int:
    random = np.random.default_rng(0)
    pixels = random.integers(0, 256, (IMAGES, *plan.preprocessing.shape), np.uint8)
    labels = random.integers(0, CLASSES, IMAGES)
    network = Network.start(plan.network.with_outputs(CLASSES), plan.preprocessing.shape, 0)
    preprocessor = Preprocessor.measured(pixels, plan.preprocessing)
    size = plan.training.batch_size
    feed = Feed(pixels, labels, np.arange(IMAGES), plan.augmentation, preprocessor, 0, size, CLASSES)
    tracemalloc.start()
    try:
        with ThreadPool(plan.training.threads) as thread_pool:
            learner = Classifier(network, plan, preprocessor, thread_pool)
            for epoch in range(2):
                for number, batch in enumerate(feed.batches_of(epoch)):
                    learner.learn(batch, StepContext(0, epoch, number, 0), feed.batches)
            best = learner.model()
            learner.evaluate(pixels, labels)
            assert best
        return tracemalloc.get_traced_memory()[1]
    finally:
        tracemalloc.stop()


LEAST = {
    "two blocks": 0.3,
    "three double blocks": 0.55,
    "normalised blocks": 0.8,
    "residual": 0.6,
    "densely connected": 0.75,
    "depthwise-separable": 0.58,
}
"""Of what is said of one thread the share that arrays alone take: a process holds more than them."""


@pytest.mark.parametrize("name", LEAST)
def test_arrays_take_no_more_than_was_said_and_not_much_less(name: str) -> None:
    taken(Plan().changed({**PLAIN, "network": name, "training.batch_size": 2}))  # loads and compiles what it needs
    two = Plan().changed({**PLAIN, "network": name, "training.batch_size": 48})
    assert taken(two) / foreseen(two) < 1.05  # how much less is by chance: whether both are at their largest at once
    one = two.changed({"training.threads": 1})
    assert LEAST[name] < taken(one) / foreseen(one) < 1.05


def test_more_is_said_where_more_is_taken() -> None:
    plan = Plan().changed(PLAIN)
    for key, value in (
        ("training.batch_size", 64),
        ("preprocessing.input_size", 128),
        ("training.precision", "double"),
        ("averaging", "exponential moving average"),
        ("network", "residual"),
    ):
        assert foreseen(plan.changed({key: value})) > foreseen(plan), key
    assert foreseen(plan, 1000) > foreseen(plan, 20)
    assert foreseen(plan, 1000) == foreseen(plan, 300)  # no more than are evaluated at once


def test_maps_are_kept_for_as_many_pieces_as_there_are_threads_unless_sums_are_of_the_whole_batch() -> None:
    apart, together = (
        [
            foreseen(
                Plan().changed({**PLAIN, "network": name, "training.batch_size": 64, "training.threads": threads}), 0
            )
            for threads in (1, 2, 4)
        ]
        for name in ("three double blocks", "normalised blocks")
    )
    assert apart[2] - apart[0] > 0.5 * apart[0]
    assert 0 < together[2] - together[0] < 0.2 * together[0]


def test_frozen_layers_keep_no_maps() -> None:
    plan = Plan().changed({**PLAIN, "network": "three double blocks", "training.batch_size": 64})
    until = [node.name for node in plan.network.nodes if node.name.startswith("max pooling")][1]
    assert foreseen(replace(plan, base=Base(run=1, until=until)), 0) < 0.8 * foreseen(plan, 0)
