"""What `measure` says of an epoch: all that is done is counted once, and nothing of training is left out."""

from __future__ import annotations

import time

import pytest

from attentive_lens.desk.measuring.epochs import PARTS, REST, Clock, costs_of_first, epoch_of, part_of, work_of
from attentive_lens.desk.network.design import facts_of
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


def test_a_pair_s_steps_are_counted_side_by_side() -> None:
    plan = Plan().changed({"network": "generator", "preprocessing.input_size": 16, "training.batch_size": 8})
    network, facts = facts_of(plan, 6)
    cost = {fact.name: fact.multiply_adds for fact in facts}
    generator = ["fully connected 1", "transposed convolution 1", "transposed convolution 2"]
    discriminator = ["convolution 1", "convolution 2", "output"]
    assert sum(cost.values()) == sum(cost[name] for name in generator + discriminator)
    drawing, judging = (sum(cost[name] for name in side) for side in (generator, discriminator))
    for_discriminator = drawing + 2 * (3 * judging - cost["convolution 1"])
    for_generator = 3 * drawing - cost["fully connected 1"] + 2 * judging
    evaluated = 8 * (drawing + 2 * judging)
    assert work_of(plan, network, facts, 40, 8) == 40 * (for_discriminator + for_generator) + evaluated
    twice = plan.changed({"task.discriminator_steps": 2})
    assert work_of(twice, network, facts, 40, 8) == 40 * (for_discriminator + for_generator // 2) + evaluated
    plan = plan.changed({"task.mismatched": False})
    classed = plan.changed({"network": "generator, by class"})
    own = facts_of(classed, 6)
    judged = [fact for fact in own[1] if fact.name in own[0].discriminator]
    once = sum(3 * fact.multiply_adds for fact in judged) - costs_of_first(own[0], judged)
    more = work_of(classed.changed({"task.mismatched": True}), *own, 40, 8) - work_of(classed, *own, 40, 8)
    assert more == 40 * once
    assert work_of(plan.changed({"task.mismatched": True}), network, facts, 40, 8) == work_of(
        plan, network, facts, 40, 8
    )
    figure = epoch_of("pair", plan.changed({"augmentation": "none"}), 40, 1, lambda: 1e9)
    assert figure.multiply_adds == work_of(plan, network, facts, 40, 8)
    for part in ("input layer", "other convolutions", "fully connected", "optimiser", "evaluation", "normalisation"):
        assert figure.shares[part] > 0, part
