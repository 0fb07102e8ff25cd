"""Networks that branch and join: whole-batch normalisation, edited feature maps, replaced gradients, resumed steps."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from scipy.ndimage import correlate

from attentive_lens.engine.batches import inference, learn
from attentive_lens.engine.diagnosis import where_it_began
from attentive_lens.engine.folding import folded
from attentive_lens.engine.initialisation import initial_weights
from attentive_lens.engine.kernels import tiles
from attentive_lens.engine.kernels.choice import kernel_for
from attentive_lens.engine.kernels.direct import Window, convolve, weight_gradient
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.losses import Loss, one_hot
from attentive_lens.engine.network import Network, fingerprint
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.plan.blocks import BLOCKS, Branches, Dense, Residual, Separable, Squeeze, built
from attentive_lens.plan.initialisations import INITIALISATIONS
from attentive_lens.plan.layers import (
    Add,
    BatchNormalisation,
    Convolution,
    Dropout,
    Flatten,
    GlobalPooling,
    LayerSettings,
    Output,
    Relu,
)
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import IMAGE, Node

SHAPE = (8, 8, 3)
GRAPH = built(
    [
        Convolution(filters=4),
        BatchNormalisation(),
        Relu(),
        Residual(filters=6, stride=2),
        Separable(filters=8),
        Squeeze(reduction=2),
        Dense(growth_rate=3, depth=2),
        Branches(filters=3),
        GlobalPooling(),
        Output(),
    ]
).with_outputs(3)
MOMENT = StepContext(3, 0, 0, 0)


def batch(n: int = 13, dtype: type = np.float64) -> tuple[np.ndarray, np.ndarray]:
    random = np.random.default_rng(4)
    return random.standard_normal((n, *SHAPE)).astype(dtype), one_hot(random.integers(0, 3, n), 3, dtype)


def network(dtype: type = np.float64) -> Network:
    made = Network.start(GRAPH, SHAPE, 5, dtype)
    random = np.random.default_rng(6)
    for arrays in made.weights.values():
        for name in ("bias", "shift"):
            if name in arrays:
                arrays[name] += random.normal(0, 0.2, arrays[name].shape).astype(dtype)
    return made


@pytest.mark.parametrize("kind", BLOCKS)
def test_every_block_keeps_rows_and_columns_and_trains(kind: str) -> None:
    plan = built([Convolution(filters=8), BLOCKS[kind](), GlobalPooling(), Output()]).with_outputs(3)
    own = Network.start(plan, SHAPE, 1)
    facts = {fact.name: fact.shape for fact in plan.facts(SHAPE)}
    assert facts[plan.nodes[-2].after[0]][:2] == SHAPE[:2]
    images, targets = batch(9, np.float32)
    with ThreadPool(1) as thread_pool:
        first = learn(own, images, targets, own.route(frozenset(own.weights)), MOMENT, thread_pool)
        assert np.isfinite(first.loss)
        assert first.gradients.keys() == own.weights.keys()


def test_the_gradient_through_pieces_is_that_of_the_whole_batch() -> None:
    own = network()
    images, targets = batch()
    route = own.route(frozenset(own.weights))
    with ThreadPool(2) as thread_pool:
        step = learn(own, images, targets, route, MOMENT, thread_pool)
    trace = own.forward(images, route=route, context=MOMENT)
    losses, grad = Loss()(trace.outputs[own.output], targets)
    _, whole = own.backward(trace, {own.output: grad / len(images)}, route)
    assert step.loss == pytest.approx(losses.mean())
    for node, arrays in whole.items():
        for name, array in arrays.items():
            assert step.gradients[node][name] == pytest.approx(array, abs=1e-9), (node, name)

    def loss() -> float:
        out = own.forward(images, route=route, context=MOMENT).outputs[own.output]
        return float(Loss()(out, targets)[0].mean())

    random = np.random.default_rng(0)
    for node, arrays in whole.items():
        for name, array in arrays.items():
            flat = own.weights[node][name].reshape(-1)
            k = int(random.integers(flat.size))
            old, h = flat[k], 1e-6
            flat[k] = old + h
            above = loss()
            flat[k] = old - h
            below = loss()
            flat[k] = old
            scale = max(float(np.abs(array).max()), 1e-3)
            assert (above - below) / (2 * h) == pytest.approx(array.reshape(-1)[k], abs=2e-5 * scale), (node, name)


def test_a_graph_gives_the_same_bits_whatever_the_thread_count() -> None:
    seen = set()
    images, targets = batch(19, np.float32)
    for threads in (1, 2, 3):
        own = network(np.float32)
        with ThreadPool(threads) as thread_pool:
            step = learn(own, images, targets, own.route(frozenset(own.weights)), MOMENT, thread_pool)
            own.absorb(step.sums)
            seen.add(
                (
                    step.loss,
                    fingerprint(step.gradients),
                    own.fingerprint(),
                    inference(own, images, thread_pool).tobytes(),
                )
            )
    assert len(seen) == 1


def test_running_figures_follow_the_batches_and_frozen_ones_stay() -> None:
    own = Network.start(built([BatchNormalisation(momentum=0.5), GlobalPooling(), Output()]).with_outputs(3), SHAPE, 1)
    images = np.random.default_rng(0).normal(3, 2, (40, *SHAPE)).astype(np.float32)
    targets = one_hot(np.arange(40) % 3, 3)
    name = "batch normalisation 1"
    with ThreadPool(1) as thread_pool:
        step = learn(own, images, targets, own.route(frozenset(own.weights)), MOMENT, thread_pool)
        own.absorb(step.sums)
        flat = images.reshape(-1, 3)
        assert own.weights[name]["mean"] == pytest.approx(0.5 * flat.mean(axis=0), rel=1e-4)
        assert own.weights[name]["variance"] == pytest.approx(0.5 + 0.5 * flat.var(axis=0, ddof=1), rel=1e-4)
        before = own.copy_weights()
        step = learn(own, images, targets, own.route(frozenset(own.weights) - {name}), MOMENT, thread_pool)
        assert name not in step.sums
        own.absorb(step.sums)
    assert fingerprint({name: before[name]}) == fingerprint({name: own.weights[name]})


def test_a_folded_network_gives_the_same_scores_with_fewer_layers() -> None:
    own = network()
    images, targets = batch()
    with ThreadPool(1) as thread_pool:
        own.absorb(learn(own, images, targets, own.route(frozenset(own.weights)), MOMENT, thread_pool).sums)
        whole = inference(own, images, thread_pool)
        light = folded(own)
        assert inference(light, images, thread_pool) == pytest.approx(whole, abs=1e-9)
    normals = [n for n in GRAPH.nodes if isinstance(n.layer, BatchNormalisation)]
    left = [n for n in light.plan.nodes if isinstance(n.layer, BatchNormalisation)]
    assert 0 < len(left) < len(normals)
    assert all(not isinstance(own.plan.node(n.after[0]).layer, Convolution) for n in left)


def test_an_edited_map_stands_in_for_what_is_below_it() -> None:
    own = network()
    images, _ = batch(4)
    watched = "relu 3"
    plain = own.forward(images, watch=frozenset({watched}))
    nothing = np.full_like(images, np.nan)
    again = own.forward(nothing, edited={watched: plain.outputs[watched]})
    branch = GRAPH.up_to(watched)
    assert all(set(node.after) & branch <= {watched} for node in GRAPH.nodes if node.name not in branch)
    assert again.outputs[own.output] == pytest.approx(plain.outputs[own.output], abs=1e-12)
    louder = own.forward(images, edited={watched: 2 * plain.outputs[watched]})
    assert not np.allclose(louder.outputs[own.output], plain.outputs[own.output])


def test_the_gradient_of_one_node_by_another_is_what_differences_give() -> None:
    own = network()
    images, _ = batch(2)
    scalar, by = "add 1", "convolution 1"
    route = own.route(nodes=frozenset({by}))
    watch = frozenset({scalar, by})
    trace = own.forward(images, route=route, watch=watch)
    seed = np.random.default_rng(1).standard_normal(trace.outputs[scalar].shape)
    at = trace.outputs[by].copy()
    nodes, weights = own.backward(trace, {scalar: seed}, route)
    assert nodes.keys() == {by}
    assert weights == {}
    for place in ((0, 1, 2, 3), (1, 7, 0, 0), (0, 4, 4, 1)):
        moved = []
        for h in (1e-6, -1e-6):
            own_map = at.copy()
            own_map[place] += h
            out = own.forward(images, edited={by: own_map}, watch=frozenset({scalar})).outputs[scalar]
            moved.append(float((out * seed).sum()))
        assert (moved[0] - moved[1]) / 2e-6 == pytest.approx(nodes[by][place], abs=1e-5)


def test_a_rule_stands_in_for_the_gradient_of_every_relu() -> None:
    plan = NetworkPlan.stack([Convolution(filters=4), Relu(), Flatten(), Output()]).with_outputs(2)
    own = Network.start(plan, (5, 5, 1), 2, np.float64)
    images = np.random.default_rng(0).standard_normal((1, 5, 5, 1))
    route = own.route(image=True)
    seed = {own.output: np.array([[1.0, 0.0]])}
    plain, _ = own.backward(own.forward(images, route=route), seed, route)
    same, _ = own.backward(own.forward(images, route=route), seed, route, lambda g, out: g * (out > 0))
    none, _ = own.backward(own.forward(images, route=route), seed, route, lambda g, out: 0 * g)
    assert np.array_equal(plain[IMAGE], same[IMAGE])
    assert not none[IMAGE].any()
    assert plain[IMAGE].any()


@pytest.mark.parametrize("shape", [(1, 4, 4), (2, 6, 9), (3, 13, 5), (1, 1, 1), (2, 16, 16)])
def test_the_tile_transform_is_the_slow_convolution(shape: tuple[int, int, int]) -> None:
    random = np.random.default_rng(0)
    n, rows, columns = shape
    images = random.standard_normal((n, rows, columns, 5), np.float32)
    kernel = random.standard_normal((3, 3, 5, 7), np.float32)
    bias = random.standard_normal(7).astype(np.float32)
    result = tiles.convolve(images, tiles.transformed(kernel), 1, rows, columns, bias, False)
    slow = np.zeros(result.shape)
    for i in range(n):
        for f in range(7):
            for c in range(5):
                slow[i, :, :, f] += correlate(images[i, :, :, c].astype(float), kernel[:, :, c, f], mode="constant")
    slow += bias
    assert result == pytest.approx(slow, abs=1e-5 * float(np.abs(slow).max()))
    activated = tiles.convolve(images, tiles.transformed(kernel), 1, rows, columns, bias, True)
    assert np.array_equal(activated, np.maximum(result, 0))
    window = Window.square(3, 1, 1, 1)
    assert result == pytest.approx(convolve(images, kernel, window, bias), abs=1e-5 * float(np.abs(slow).max()))
    grad = random.standard_normal(result.shape).astype(np.float32)
    expected = weight_gradient(images, grad, window)
    assert tiles.filter_gradient(images, grad, 1) == pytest.approx(expected, abs=2e-5 * float(np.abs(expected).max()))


def test_a_kernel_is_chosen_by_shape_and_can_be_asked_for() -> None:
    wide, given = Convolution(filters=64), (32, 32, 64)
    assert kernel_for(wide, given) == "tiles"
    assert kernel_for(wide, given, "direct") == "direct"
    assert kernel_for(wide, (32, 32, 3)) == "direct"
    assert kernel_for(wide, (32, 32, 3), "tiles") == "tiles"
    assert kernel_for(wide, (1, 1, 64)) == "direct"
    assert kernel_for(Convolution(filters=64, stride=2), given, "tiles") == "direct"
    assert kernel_for(Convolution(filters=64, groups=64), given) == "depthwise"


def test_where_numbers_ran_away_is_told_by_layer() -> None:
    images, targets = batch(3)
    with np.errstate(all="ignore"):
        own = network()
        own.weights["convolution 3"]["kernel"][...] = np.inf
        assert where_it_began(own, images, targets, MOMENT, Loss()) == "at the layer convolution 3, going forward"
        assert where_it_began(network(), images, targets, MOMENT, Loss()) == ""
        for value, at in ((np.nan, "in the loss"), (1e308, "at the layer output, going back")):
            steep: Any = lambda outputs, _, value=value: (np.zeros(len(outputs)), np.full_like(outputs, value))  # noqa: E731
            assert where_it_began(network(), images, targets, MOMENT, steep) == at
        own = network()
        images[0, 0, 0, 0] = np.nan
        assert where_it_began(own, images, targets, MOMENT, Loss()) == "in the images themselves"


@pytest.mark.parametrize("how", INITIALISATIONS)
def test_starting_weights_have_the_spread_they_are_named_for(how: str) -> None:
    result = initial_weights(
        INITIALISATIONS[how](), (3, 3, 16, 100), 144, 900, np.random.default_rng(0), np.dtype(np.float64)
    )
    flat = result.reshape(144, 100)
    if how == "orthogonal":
        assert flat.T @ flat == pytest.approx(2 * np.eye(100), abs=1e-9)
    elif how == "constant":
        assert np.ptp(result) == 0
    else:
        wanted = {"he": np.sqrt(2 / 144), "glorot": np.sqrt(2 / 1044), "normal": 0.01}[how]
        assert result.std() == pytest.approx(wanted, rel=0.03)
        assert abs(result.mean()) < 0.05 * wanted


@pytest.mark.parametrize("how", INITIALISATIONS)
@pytest.mark.parametrize("shape", [(5, 40), (40, 5), (3, 3, 2, 40)])
def test_starting_weights_lie_in_memory_as_they_come_back_from_a_file(how: str, shape: tuple[int, ...]) -> None:
    """Else a product's last bits differ after a run was stopped and gone on with."""
    result = initial_weights(INITIALISATIONS[how](), shape, 5, 40, np.random.default_rng(0), np.dtype(np.float32))
    assert result.flags.c_contiguous
    assert result.dtype == np.float32
    assert result.shape == shape


@pytest.mark.parametrize("between", [Dropout(rate=0.5), Flatten()], ids=["dropout", "flatten"])
def test_what_another_layer_still_reads_is_not_written_over(between: LayerSettings) -> None:
    """Dropout and flattening hand their input on as it is: a ReLU after them must not change it under an addition."""
    first = (Convolution(filters=2),) if between.kind == "dropout" else (Convolution(filters=2), GlobalPooling())
    nodes, last = [], IMAGE
    for k, layer in enumerate(first):
        nodes.append(Node(f"first {k}", layer, (last,)))
        last = f"first {k}"
    nodes += [
        Node("between", between, (last,)),
        Node("relu", Relu(), ("between",)),
        Node("sum", Add(), ("relu", last)),
        *([Node("pooled", GlobalPooling(), ("sum",))] if between.kind == "dropout" else []),
    ]
    plan = NetworkPlan((*nodes, Node("output", Output(), (nodes[-1].name,)))).with_outputs(3)
    made = Network.start(plan, SHAPE, 5, np.float64)
    images, _ = batch(5)
    every = frozenset(node.name for node in plan.nodes)
    apart = made.forward(images, watch=every).outputs  # what is watched is never written over
    assert (apart[last] < 0).any(), "or nothing could be lost"
    assert np.array_equal(made.forward(images).outputs["output"], apart["output"])
    assert np.array_equal(apart["sum"], np.maximum(apart[last], 0) + apart[last])
