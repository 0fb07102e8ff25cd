"""What `measure` says of an epoch: all that is done is counted once, and nothing of training is left out."""

from __future__ import annotations

import time

import pytest

from attentive_lens.desk.measuring.epochs import PARTS, REST, Clock, costs_of_first, epoch_of, part_of
from attentive_lens.plan.layers import LAYERS, Convolution, Flatten, Output, Relu
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.plan import Plan

SMALL = NetworkPlan.stack([Convolution(filters=4), Relu(), Convolution(filters=4), Flatten(), Output()])


def test_an_epoch_counts_what_it_does_and_shares_out_all_its_time() -> None:
    plan = Plan().changed({"preprocessing.input_size": 16, "training.batch_size": 8}).with_network(SMALL)
    figure = epoch_of("small", plan, 40, 2, lambda: 1e9)
    first, second, output = 256 * 27 * 4, 256 * 36 * 4, 1024 * 6
    assert figure.multiply_adds == 40 * (2 * first + 3 * second + 3 * output) + 8 * (first + second + output)
    assert figure.ratio == pytest.approx(figure.multiply_adds / figure.seconds / 1e9)
    assert set(figure.shares) == set(PARTS)
    for part in ("augmentation", "input layer", "other convolutions", "fully connected", "optimiser", "evaluation"):
        assert figure.shares[part] > 0, part
    assert figure.shares["normalisation"] == 0
    assert all(0 <= share < 1 for share in figure.shares.values())


def test_no_gradient_passes_the_layers_that_nothing_learned_stands_before() -> None:
    facts = SMALL.with_outputs(6).facts((16, 16, 3))
    assert costs_of_first(SMALL.with_outputs(6), facts) == facts[0].multiply_adds


def test_every_kind_of_layer_belongs_to_a_part() -> None:
    parts = {kind: part_of(settings(), False) for kind, settings in LAYERS.items()}
    assert set(parts.values()) <= set(PARTS) - {REST}
    assert parts["max pooling"] == parts["global pooling"] == "pooling"
    assert parts["batch normalisation"] == "normalisation"
    assert parts["relu"] == "activations"
    assert parts["add"] == "other layers"
    assert part_of(Convolution(), True) == "input layer"


def test_a_clock_counts_processor_time_and_not_waiting() -> None:
    class Worker:
        def wait(self) -> str:
            time.sleep(0.05)
            return "done"

    worker, clock = Worker(), Clock()
    clock.count("waiting", worker, "wait")
    assert worker.wait() == "done"
    assert clock.seconds["waiting"] < 0.04
