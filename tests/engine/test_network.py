from __future__ import annotations

import numpy as np
import pytest

from attentive_lens.engine.batches import inference, learn
from attentive_lens.engine.layers import INFERENCE, LAYERS, Call, StepContext
from attentive_lens.engine.losses import one_hot
from attentive_lens.engine.network import Network, fingerprint
from attentive_lens.engine.optimisers import OPTIMISERS
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.plan import layers as planned
from attentive_lens.plan.optimisers import Adam
from attentive_lens.plan.pieces import PIECE_WORK, pieces_of
from attentive_lens.plan.starters import STARTERS

SHAPE = (16, 16, 3)


@pytest.fixture
def network() -> Network:
    return Network.start(STARTERS["two blocks"].network.with_outputs(4), SHAPE, 11)


def batch(n: int = 21) -> tuple[np.ndarray, np.ndarray]:
    random = np.random.default_rng(2)
    return random.standard_normal((n, *SHAPE), np.float32), one_hot(random.integers(0, 4, n), 4)


def test_every_planned_layer_has_its_arithmetic() -> None:
    assert LAYERS.keys() == planned.LAYERS.keys()


def test_gradients_and_scores_have_the_same_bits_whatever_the_thread_count(network: Network) -> None:
    images, targets = batch()
    route = network.route(frozenset(network.weights))
    seen, answers = set(), set()
    for threads in (1, 2, 3):
        with ThreadPool(threads) as thread_pool:
            step = learn(network, images, targets, route, StepContext(1, 2, 3, 0), thread_pool)
            seen.add((step.loss, step.right, fingerprint(step.gradients)))
            answers.add(inference(network, images, thread_pool).tobytes())
    assert len(seen) == len(answers) == 1


def test_an_image_scores_the_same_bits_in_any_company(network: Network) -> None:
    images, _ = batch(19)
    with ThreadPool(1) as thread_pool:
        together = inference(network, images, thread_pool)
        alone = np.concatenate([inference(network, images[k : k + 1], thread_pool) for k in range(19)])
    assert np.array_equal(together, alone)


def test_the_batch_gradient_is_the_mean_of_the_images_gradients(network: Network) -> None:
    images, targets = batch(6)
    network.weights = {n: {k: a.astype(np.float64) for k, a in w.items()} for n, w in network.weights.items()}
    route = network.route(frozenset(network.weights))
    with ThreadPool(1) as thread_pool:
        # Dropout draws by piece, so it is left out here.
        network.layers["dropout 1"].settings = planned.Dropout(rate=0.0)
        whole = learn(network, images.astype(np.float64), targets, route, StepContext(0, 0, 0, 0), thread_pool)
        each = [
            learn(
                network,
                images[k : k + 1].astype(np.float64),
                targets[k : k + 1],
                route,
                StepContext(0, 0, 0, 0),
                thread_pool,
            )
            for k in range(6)
        ]
    mean = sum(step.gradients["convolution 1"]["kernel"] for step in each) / 6
    assert whole.gradients["convolution 1"]["kernel"] == pytest.approx(mean, abs=1e-12)


def test_frozen_weights_keep_their_bits_and_nothing_below_is_walked(network: Network) -> None:
    images, targets = batch()
    frozen = network.plan.up_to("max pooling 2")
    route = network.route(frozenset(network.weights) - frozen)
    assert route.walked == {"fully connected 1", "relu 3", "dropout 1", "output"}
    before = network.copy_weights()
    optimiser = OPTIMISERS["adam"](Adam())
    with ThreadPool(2) as thread_pool:
        for k in range(3):
            step = learn(network, images, targets, route, StepContext(0, 0, k, 0), thread_pool)
            assert step.gradients.keys() == {"fully connected 1", "output"}
            optimiser.step(network.weights, step.gradients)
    for node in before:
        same = all(np.array_equal(before[node][k], network.weights[node][k]) for k in before[node])
        assert same == (node in frozen), node


def test_watched_outputs_are_what_the_layers_gave_and_unwatched_runs_answer_the_same(network: Network) -> None:
    images, _ = batch(3)
    every = frozenset(network.layers)
    trace = network.forward(images, watch=every)
    assert trace.outputs.keys() == every
    assert trace.outputs["convolution 1"].min() < 0 <= trace.outputs["relu 1"].min()
    assert np.array_equal(np.maximum(trace.outputs["convolution 1"], 0), trace.outputs["relu 1"])
    assert np.array_equal(network.forward(images).outputs["output"], trace.outputs["output"])


def test_forward_never_changes_the_images(network: Network) -> None:
    images, _ = batch(3)
    before = images.copy()
    network.forward(images, context=StepContext(0, 0, 0, 0))
    assert np.array_equal(images, before)


def test_dropout_silences_its_share_keeps_the_mean_and_rests_at_inference() -> None:
    layer = LAYERS["dropout"]("d", planned.Dropout(rate=0.3))
    given = np.ones((200, 100), np.float32)
    out, _ = layer.forward(given, {}, Call(StepContext(1, 0, 0, 0)))
    assert np.mean(out == 0) == pytest.approx(0.3, abs=0.02)
    assert out.mean() == pytest.approx(1.0, abs=0.02)
    again, _ = layer.forward(given, {}, Call(StepContext(1, 0, 0, 0)))
    other, _ = layer.forward(given, {}, Call(StepContext(1, 0, 1, 0)))
    assert np.array_equal(out, again)
    assert not np.array_equal(out, other)
    assert layer.forward(given, {}, INFERENCE)[0] is given


def test_starting_weights_have_the_spread_of_their_formula() -> None:
    network = Network.start(STARTERS["three blocks"].network.with_outputs(6), (64, 64, 3), 0)
    kernel = network.weights["convolution 3"]["kernel"]
    assert kernel.std() == pytest.approx(np.sqrt(2 / (9 * 32)), rel=0.05)
    again = Network.start(STARTERS["three blocks"].network.with_outputs(6), (64, 64, 3), 0)
    assert network.fingerprint() == again.fingerprint()
    assert network.fingerprint() != Network.start(again.plan, (64, 64, 3), 1).fingerprint()


def test_a_batch_is_cut_by_its_cost_alone_into_a_power_of_two_of_pieces() -> None:
    counts = [pieces_of(PIECE_WORK * share // 4) for share in range(200)]
    assert counts == sorted(counts)
    assert set(counts) == {2, 4, 8}
    assert (pieces_of(0), pieces_of(4 * PIECE_WORK - 1), pieces_of(4 * PIECE_WORK)) == (2, 2, 4)
    assert pieces_of(8 * PIECE_WORK - 1) == 4
    assert pieces_of(10**15) == 8


def test_dropout_of_channels_strikes_others_out_of_every_image() -> None:
    layer = LAYERS["dropout"]("d", planned.Dropout(rate=0.5, unit="channel"))
    inputs = np.ones((16, 3, 4, 24), np.float32)
    out, factors = layer.forward(inputs, {}, Call(StepContext(1, 0, 0, 0)))
    assert set(np.unique(out)) == {0.0, 2.0}
    assert (out == out[:, :1, :1]).all(), "whole channels"
    assert len({row.tobytes() for row in out[:, 0, 0] > 0}) == 16, "each image has its own"
    assert np.array_equal(layer.backward(np.ones_like(inputs), factors, {}, True, False)[0], out)
