"""Output functions: known answers, gradients by differences, and answers that no score makes overflow."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.engine.batches import inference, learn
from attentive_lens.engine.folding import folded
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.losses import Loss, one_hot
from attentive_lens.engine.network import Network
from attentive_lens.engine.outputs import OUTPUTS
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.plan.layers import BatchNormalisation, Convolution, Flatten, Output, Relu
from attentive_lens.plan.losses import LOSSES
from attentive_lens.plan.network import NetworkPlan

scores = st.lists(st.floats(-(2.0**99), 2.0**99, width=32), min_size=2, max_size=6)


def test_known_answers() -> None:
    three = np.array([[0.0, np.log(3.0)]])
    assert OUTPUTS["softmax"].answers(three) == pytest.approx(np.array([[0.25, 0.75]]))
    assert OUTPUTS["sigmoid"].answers(three) == pytest.approx(np.array([[0.5, 0.75]]))
    assert OUTPUTS["none"].answers(three) is three
    one = OUTPUTS["one sigmoid"]
    assert one.answers(one.spread(np.array([[np.log(3.0)]]))) == pytest.approx(np.array([[0.25, 0.75]]))
    assert [own.is_probability for own in OUTPUTS.values()] == [True, True, True, False]


@pytest.mark.parametrize("name", OUTPUTS)
@given(row=scores)
def test_answers_are_numbers_whatever_the_scores(name: str, row: list[float]) -> None:
    output = OUTPUTS[name]
    raw = np.array([row], np.float32)[:, : output.outputs(len(row))]
    result = output.answers(output.spread(raw))
    assert np.isfinite(result).all()
    assert result.dtype == np.float32
    if output.is_probability:
        assert ((result >= 0) & (result <= 1)).all()
    if name in ("softmax", "one sigmoid"):
        assert result.sum() == pytest.approx(1, abs=1e-5)


@pytest.mark.parametrize("name", OUTPUTS)
def test_the_gradient_is_what_differences_give(name: str) -> None:
    output, random = OUTPUTS[name], np.random.default_rng(3)
    own, weights = random.normal(0, 2, (4, 3)), random.normal(0, 1, (4, 3))
    result = output.gradient(own, weights)
    for i in range(4):
        for k in range(3):
            ends = []
            for h in (1e-6, -1e-6):
                moved = own.copy()
                moved[i, k] += h
                ends.append((output.answers(moved) * weights)[i].sum())
            assert (ends[0] - ends[1]) / 2e-6 == pytest.approx(result[i, k], abs=1e-7)


@pytest.mark.parametrize("name", OUTPUTS)
def test_gathering_is_spreading_transposed(name: str) -> None:
    output, random = OUTPUTS[name], np.random.default_rng(4)
    raw = random.normal(0, 1, (5, output.outputs(2)))
    grad = random.normal(0, 1, (5, 2))
    assert (output.spread(raw) * grad).sum() == pytest.approx((raw * output.gather(grad)).sum())


@pytest.mark.parametrize("kind", LOSSES)
def test_a_network_learns_two_classes_by_every_loss(kind: str) -> None:
    settings = LOSSES[kind]()
    output = OUTPUTS[settings.output]
    plan = NetworkPlan.stack([Flatten(), Output()]).with_outputs(settings.outputs(2))
    network = Network.start(plan, (4, 4, 1), 0, np.float64)
    random = np.random.default_rng(0)
    labels = np.arange(40) % 2
    images = random.normal(0, 0.3, (40, 4, 4, 1)) + labels[:, None, None, None]
    loss, route = Loss.of(settings), network.route(frozenset(network.weights))
    with ThreadPool(1) as thread_pool:
        first = None
        for step in range(200):
            context = StepContext(0, 0, step, 0)
            result = learn(network, images, one_hot(labels, 2, np.float64), route, context, thread_pool, loss, output)
            first = result.loss if first is None else first
            for node, arrays in result.gradients.items():
                for name, grad in arrays.items():
                    network.weights[node][name] -= 0.05 * grad
        predicted = output.spread(inference(network, images, thread_pool)).argmax(axis=1)
    assert first is not None
    assert result.loss < 0.7 * first
    assert (predicted == labels).all()
    assert result.right == 40


@pytest.mark.parametrize("far", [0.0, 1e2, 1e4])
@pytest.mark.parametrize("training", [True, False])
def test_batch_normalisation_is_right_where_the_mean_is_far_larger_than_the_deviation(
    far: float, training: bool
) -> None:
    plan = NetworkPlan.stack([BatchNormalisation(), Flatten(), Output()]).with_outputs(2)
    images = np.random.default_rng(5).normal(far, 1, (32, 6, 6, 3)).astype(np.float32)
    network = Network.start(plan, (6, 6, 3), 0)
    name = plan.nodes[0].name
    exact = images.astype(np.float64)
    mean, variance = exact.mean(axis=(0, 1, 2)), exact.var(axis=(0, 1, 2))
    wanted = (exact - mean) / np.sqrt(variance + BatchNormalisation().epsilon)
    if training:
        with ThreadPool(2) as thread_pool:
            route = network.route(frozenset(network.weights))
            step = learn(network, images, one_hot(np.arange(32) % 2, 2), route, StepContext(0, 0, 0, 0), thread_pool)
            assert np.isfinite(step.loss)
            network.absorb(step.sums)
        stored, part = network.weights[name], 1 - BatchNormalisation().momentum
        assert stored["mean"] == pytest.approx(part * mean, rel=1e-6, abs=1e-6)
        unbiased = variance * exact[..., 0].size / (exact[..., 0].size - 1)
        assert stored["variance"] == pytest.approx(1 - part + part * unbiased, rel=1e-5)
        return
    network.weights[name]["mean"][:] = mean
    network.weights[name]["variance"][:] = variance
    result = network.forward(images, watch=frozenset({name})).outputs[name]
    # what rounding the images and the kept mean to float32 leaves
    assert np.abs(result - wanted).max() < 1e-5 + 2 * far * 2**-23


def test_folding_a_far_mean_changes_no_answer() -> None:
    plan = NetworkPlan.stack([Convolution(filters=4), BatchNormalisation(), Relu(), Flatten(), Output()]).with_outputs(
        3
    )
    network = Network.start(plan, (8, 8, 3), 1)
    arrays = next(own for own in network.weights.values() if "variance" in own)
    arrays["mean"][:] = 3.0
    arrays["variance"][:] = 0.01
    images = np.random.default_rng(0).normal(0, 1, (5, 8, 8, 3)).astype(np.float32)
    whole, light = (own.forward(images).outputs[own.output] for own in (network, folded(network)))
    assert light == pytest.approx(whole, rel=1e-4, abs=1e-3)
