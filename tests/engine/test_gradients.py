"""Gradients against finite differences in float64: the proof that explanations rest on."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from attentive_lens.engine.layers import LAYERS, Moment
from attentive_lens.engine.losses import cross_entropy, one_hot, softmax
from attentive_lens.engine.network import Network
from attentive_lens.plan.layers import (
    Answers,
    Connected,
    Convolution,
    DoesNotFit,
    Dropout,
    Flatten,
    LayerSettings,
    MaxPooling,
    Relu,
)
from attentive_lens.plan.network import IMAGE, NetworkPlan

STEP = 1e-5
WORST = 1e-6


def spread(random: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
    """Values that lie at least 0.01 apart and away from zero, so that no kink is within reach of a difference."""
    count = int(np.prod(shape))
    values = (np.arange(count) - count // 2) * 0.013 + 0.0061
    return random.permutation(values).reshape(shape)


def difference(function: Any, at: np.ndarray, place: tuple[int, ...]) -> float:
    """Central difference of a scalar function by one entry of an array that it reads."""
    old = at[place]
    at[place] = old + STEP
    above = function()
    at[place] = old - STEP
    below = function()
    at[place] = old
    return float((above - below) / (2 * STEP))


def check(function: Any, at: np.ndarray, grad: np.ndarray, random: np.random.Generator, most: int = 24) -> None:
    """Compare a gradient with differences at some entries, relative to its greatest."""
    scale = max(float(np.abs(grad).max()), 1e-3)
    for flat in random.permutation(at.size)[:most]:
        place = tuple(int(k) for k in np.unravel_index(flat, at.shape))
        assert abs(difference(function, at, place) - grad[place]) <= WORST * scale, place


def cases() -> st.SearchStrategy[LayerSettings]:
    """Layers of every kind, with settings of every sort."""
    convolution = st.builds(
        Convolution,
        filters=st.integers(1, 4),
        kernel=st.integers(1, 5),
        stride=st.integers(1, 3),
        padding=st.sampled_from(["same", "valid"]),
    )
    pooling = st.builds(MaxPooling, window=st.integers(1, 3), stride=st.integers(1, 3))
    others = [Relu(), Dropout(share=0.4), Flatten()]
    return st.one_of(convolution, pooling, st.sampled_from(others))


@settings(max_examples=120, deadline=None)
@given(cases(), st.integers(1, 3), st.integers(1, 9), st.integers(1, 9), st.integers(1, 4), st.integers(0, 2**30))
def test_every_layer_has_the_gradient_that_differences_give(
    layer: LayerSettings, n: int, height: int, width: int, channels: int, seed: int
) -> None:
    try:
        layer.output_shape((height, width, channels))
    except DoesNotFit:
        assume(False)
    agree(layer, (n, height, width, channels), seed)


@settings(max_examples=20, deadline=None)
@given(
    st.sampled_from([Connected, Answers]), st.integers(1, 4), st.integers(1, 7), st.integers(1, 5), st.integers(0, 99)
)
def test_connected_layers_have_the_gradient_that_differences_give(
    kind: type[Connected], n: int, given_: int, units: int, seed: int
) -> None:
    agree(kind(units=units), (n, given_), seed)


def agree(settings_: LayerSettings, shape: tuple[int, ...], seed: int) -> None:
    random = np.random.default_rng(seed)
    layer = LAYERS[settings_.kind]("layer", settings_)
    weights = layer.start(shape[1:], random, np.dtype(np.float64))
    images = spread(random, shape)
    moment = Moment(seed, 1, 2, 3)
    out, kept = layer.forward(images.copy(), weights, moment, False)
    assert out.shape == (shape[0], *settings_.output_shape(shape[1:]))
    seedling = random.standard_normal(out.shape)

    def scalar() -> float:
        return float((layer.forward(images.copy(), weights, moment, False)[0] * seedling).sum())

    grad, found = layer.backward(seedling.copy(), kept, weights, True, True)
    assert grad is not None
    check(scalar, images, grad, random)
    assert found.keys() == weights.keys()
    for name, array in weights.items():
        check(scalar, array, found[name], random)


def test_the_whole_network_has_the_gradient_that_differences_give() -> None:
    layers = [Convolution(filters=3), Relu(), MaxPooling(), Convolution(filters=4, kernel=2), Relu(), Flatten()]
    plan = NetworkPlan.stack([*layers, Connected(units=5), Relu(), Dropout(share=0.3), Answers()]).for_classes(3)
    network = Network.start(plan, (6, 6, 2), 5, np.float64)
    random = np.random.default_rng(1)
    images = random.standard_normal((4, 6, 6, 2))
    wanted = one_hot(np.array([0, 2, 1, 2]), 3, np.float64)
    wanted[3] = [0.25, 0.15, 0.6]
    moment = Moment(5, 0, 0, 0)
    route = network.route(frozenset(network.weights), image=True)

    def loss() -> float:
        scores = network.forward(images, moment=moment).outputs[network.answers]
        return float(cross_entropy(scores, wanted)[0].sum())

    trace = network.forward(images, route=route, moment=moment)
    _, seed = cross_entropy(trace.outputs[network.answers], wanted)
    image, found = network.backward(trace, {network.answers: seed}, route)
    assert image is not None
    check(loss, images, image, random, 40)
    for node, arrays in found.items():
        for name, grad in arrays.items():
            check(loss, network.weights[node][name], grad, random)


def test_the_gradient_of_a_linear_network_is_its_matrix() -> None:
    network = Network.start(NetworkPlan.stack([Flatten(), Answers()]).for_classes(3), (2, 2, 1), 0, np.float64)
    images = np.random.default_rng(0).standard_normal((1, 2, 2, 1))
    route = network.route(image=True)
    trace = network.forward(images, route=route)
    image, _ = network.backward(trace, {"answers": np.array([[0.0, 1.0, 0.0]])}, route)
    assert image is not None
    assert np.array_equal(image.reshape(-1), network.weights["answers"]["matrix"][:, 1])
    assert IMAGE in route.walked


SCORES = np.array([[0.0, np.log(3.0)], [1000.0, -1000.0]])


def test_cross_entropy_of_known_scores() -> None:
    losses, grad = cross_entropy(SCORES, one_hot(np.array([1, 1]), 2, np.float64))
    assert losses == pytest.approx([np.log(4 / 3), 2000.0])
    assert grad == pytest.approx(np.array([[0.25, -0.25], [1.0, -1.0]]))
    losses, grad = cross_entropy(SCORES[:1], np.array([[0.3, 0.7]]))
    assert losses == pytest.approx([0.3 * np.log(4) + 0.7 * np.log(4 / 3)])
    assert grad == pytest.approx(np.array([[-0.05, 0.05]]))
    assert softmax(np.array([[1e4, 1e4]])) == pytest.approx(np.array([[0.5, 0.5]]))
