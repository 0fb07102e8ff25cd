"""Gradients against finite differences in float64: the proof that explanations rest on."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from attentive_lens.engine.layers import INFERENCE, LAYERS, Call, StepContext
from attentive_lens.engine.losses import cross_entropy, one_hot
from attentive_lens.engine.network import Network
from attentive_lens.engine.outputs import softmax
from attentive_lens.plan.initialisations import He
from attentive_lens.plan.layers import LAYERS as planned_layers
from attentive_lens.plan.layers import (
    Add,
    AveragePooling,
    BatchNormalisation,
    Clip,
    Codes,
    Concatenate,
    Connected,
    Convolution,
    DoesNotFit,
    Drawing,
    Dropout,
    Elu,
    Flatten,
    Gelu,
    GlobalPooling,
    GroupNormalisation,
    LayerSettings,
    LeakyRelu,
    LocalResponse,
    MaxPooling,
    Multiply,
    NormalCodes,
    Output,
    ParametricRelu,
    PowerPooling,
    Relu,
    Resampling,
    Reshape,
    ScaleAndShift,
    Sigmoid,
    Silu,
    Softmax,
    Tanh,
    TransposedConvolution,
)
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import IMAGE

STEP = 3e-6
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


def sides(low: int, high: int, count: int) -> st.SearchStrategy[int | tuple[int, ...]]:
    """One number, or as many different ones."""
    return st.one_of(st.integers(low, high), st.tuples(*[st.integers(low, high)] * count))


def between(low: int, high: int) -> st.SearchStrategy[float]:
    """Limits that no value of `spread` lies near: differences over a bend are no slopes."""
    return st.integers(low, high).map(lambda k: k * 0.013 + 0.0126)


def cases() -> st.SearchStrategy[LayerSettings]:
    """Layers of every kind that takes one input of maps, with settings of every sort."""
    convolution = st.builds(
        Convolution,
        filters=st.sampled_from([1, 2, 4]),
        kernel_size=sides(1, 5, 2),
        stride=st.integers(1, 3),
        padding=st.sampled_from(["same", "valid", "explicit"]),
        padding_width=st.one_of(sides(0, 3, 2), sides(0, 3, 4)),
        dilation=st.integers(1, 3),
        groups=st.sampled_from([1, 1, 2, 4]),
    )
    side = {
        "kernel_size": sides(1, 3, 2),
        "stride": st.integers(1, 3),
        "padding_width": st.one_of(sides(0, 2, 2), sides(0, 2, 4)),
        "ceil_mode": st.booleans(),
    }
    return st.one_of(
        convolution,
        st.builds(
            TransposedConvolution, filters=st.integers(1, 3), kernel_size=st.integers(1, 5), stride=st.integers(1, 3)
        ),
        st.builds(MaxPooling, **side),
        st.builds(AveragePooling, **side),
        st.builds(PowerPooling, **side, power=st.floats(1.5, 4.0)),
        st.builds(GlobalPooling, mode=st.sampled_from(["average", "max", "power mean"]), power=st.floats(1.5, 4.0)),
        st.builds(GroupNormalisation, groups=st.sampled_from([1, 2, 4])),
        st.builds(LocalResponse, size=st.integers(1, 6), alpha=st.floats(0.01, 1.0)),
        st.builds(Dropout, rate=st.just(0.4), unit=st.sampled_from(["value", "channel"])),
        st.builds(Resampling, factor=st.integers(1, 3), interpolation=st.sampled_from(["nearest", "bilinear"])),
        st.builds(LeakyRelu, negative_slope=st.floats(0.01, 0.5)),
        st.builds(Clip, low=between(-70, -1), high=between(8, 150)),
        st.builds(Elu, alpha=st.floats(0.5, 2.0)),
        st.builds(ParametricRelu, initial_slope=st.floats(0.05, 0.9), shared=st.booleans()),
        st.just(ScaleAndShift()),
        st.builds(Reshape, side=st.integers(1, 4)),
        st.sampled_from([Relu(), Gelu(), Silu(), Tanh(), Sigmoid(), Softmax(), Flatten(), BatchNormalisation()]),
    )


def test_every_layer_is_drawn_or_proved_below() -> None:
    elsewhere = {"add", "multiply", "concatenate", "fully connected", "output", "codes", "normal codes", "drawing",
                 "noise", "class", "real or drawn"}  # fmt: skip
    seen: set[str] = set()

    @settings(max_examples=2000, deadline=None, database=None)
    @given(cases())
    def draw(layer: LayerSettings) -> None:
        seen.add(layer.kind)

    draw()
    assert seen | elsewhere == LAYERS.keys()


@settings(max_examples=300, deadline=None)
@given(
    cases(), st.integers(1, 3), st.integers(1, 9), st.integers(1, 9), st.sampled_from([1, 2, 4]), st.integers(0, 2**30)
)
def test_every_layer_has_the_gradient_that_differences_give(
    layer: LayerSettings, n: int, height: int, width: int, channels: int, seed: int
) -> None:
    try:
        layer.output_shape((height, width, channels))
    except DoesNotFit:
        assume(False)
    agree(layer, (n, height, width, channels), seed)


@pytest.mark.parametrize("layer", [Codes(), NormalCodes(), Drawing(), Reshape(side=4)])
def test_layers_of_values_have_the_gradient_that_differences_give(layer: LayerSettings) -> None:
    agree(layer, (3, 48), 5)


@settings(max_examples=20, deadline=None)
@given(
    st.integers(1, 2), st.integers(4, 9), st.integers(4, 9), st.integers(1, 3), st.integers(0, 3), st.integers(0, 99)
)
def test_the_tile_transform_has_the_gradient_that_differences_give(
    n: int, height: int, width: int, filters: int, pad: int, seed: int
) -> None:
    layer = Convolution(filters=filters, padding="explicit", padding_width=pad)
    agree(layer, (n, height, width, 2), seed, "tiles")


@pytest.mark.parametrize("filters", [3, 6, 9])
@pytest.mark.parametrize("more", [{}, {"stride": 2}, {"dilation": 2}, {"padding": "valid"}])
def test_filters_of_one_channel_each_have_the_gradient_that_differences_give(
    filters: int, more: dict[str, Any]
) -> None:
    layer = Convolution(filters=filters, groups=3, kernel_size=3, **more)
    assert LAYERS["convolution"]("layer", layer).kernel((8, 7, 3)) == "depthwise"
    agree(layer, (2, 8, 7, 3), filters)


@pytest.mark.parametrize("more", [{}, {"stride": 2}, {"dilation": 2}, {"padding": "valid"}])
def test_groups_of_several_channels_have_the_gradient_that_differences_give(more: dict[str, Any]) -> None:
    layer = Convolution(filters=6, groups=2, kernel_size=3, **more)
    assert LAYERS["convolution"]("layer", layer).kernel((8, 7, 4)) != "depthwise"
    agree(layer, (2, 8, 7, 4), 5)


@settings(max_examples=30, deadline=None)
@given(st.sampled_from([Add(), Multiply(), Concatenate()]), st.integers(2, 3), st.booleans(), st.integers(0, 99))
def test_joining_layers_have_the_gradients_that_differences_give(
    layer: LayerSettings, count: int, gate: bool, seed: int
) -> None:
    random = np.random.default_rng(seed)
    shapes = [(2, 3, 4, 2)] * count
    if gate and isinstance(layer, Multiply):
        shapes[-1] = (2, 2)
    given_ = tuple(spread(random, shape) for shape in shapes)
    own = LAYERS[layer.kind]("layer", layer)
    out, stored = own.forward(given_, {}, INFERENCE)
    assert out.shape[1:] == layer.output_shape(*(shape[1:] for shape in shapes))
    seedling = random.standard_normal(out.shape)
    grads, _ = own.backward(seedling.copy(), stored, {}, True, False)
    for one, grad in zip(given_, grads, strict=True):
        check(lambda: float((own.forward(given_, {}, INFERENCE)[0] * seedling).sum()), one, grad, random)


@settings(max_examples=20, deadline=None)
@given(
    st.sampled_from([Connected, Output]), st.integers(1, 4), st.integers(1, 7), st.integers(1, 5), st.integers(0, 99)
)
def test_connected_layers_have_the_gradient_that_differences_give(
    kind: type[Connected], n: int, given_: int, units: int, seed: int
) -> None:
    agree(kind(units=units), (n, given_), seed)


def agree(settings_: LayerSettings, shape: tuple[int, ...], seed: int, kernels: str = "auto") -> None:
    random = np.random.default_rng(seed)
    layer: Any = LAYERS[settings_.kind]("layer", settings_)
    if kernels != "auto":
        layer.kernels = kernels
        assert layer.kernel(shape[1:]) == kernels
    weights = layer.start(shape[1:], random, np.dtype(np.float64), He())
    for name in settings_.weight_shapes(shape[1:]):  # as they are after a while, not as they begin
        weights[name] = weights[name] + 0.3 * random.standard_normal(weights[name].shape)
    images = spread(random, shape)
    context = StepContext(seed, 1, 2, 3)

    def call_for() -> Call:
        """With the sums of the batch as it is: a normalisation's statistics move with the images."""
        return Call(context, sums=layer.sums(images) if layer.settings.whole_batch else None)

    call = call_for()
    out, stored = layer.forward(images.copy(), weights, call)
    assert out.shape == (shape[0], *settings_.output_shape(shape[1:]))
    seedling = random.standard_normal(out.shape)

    def scalar() -> float:
        return float((layer.forward(images.copy(), weights, call_for())[0] * seedling).sum())

    grad, result = layer.backward(seedling.copy(), stored, weights, True, True)
    assert grad is not None
    check(scalar, images, grad, random)
    assert result.keys() == settings_.weight_shapes(shape[1:]).keys()
    assert weights.keys() == result.keys() | settings_.state_shapes(shape[1:]).keys()
    for name, grad in result.items():
        check(scalar, weights[name], grad, random)


def test_the_whole_network_has_the_gradient_that_differences_give() -> None:
    layers = [Convolution(filters=3), Relu(), MaxPooling(), Convolution(filters=4, kernel_size=2), Relu(), Flatten()]
    plan = NetworkPlan.stack([*layers, Connected(units=5), Relu(), Dropout(rate=0.3), Output()]).with_outputs(3)
    network = Network.start(plan, (6, 6, 2), 5, np.float64)
    random = np.random.default_rng(1)
    images = random.standard_normal((4, 6, 6, 2))
    wanted = one_hot(np.array([0, 2, 1, 2]), 3, np.float64)
    wanted[3] = [0.25, 0.15, 0.6]
    context = StepContext(5, 0, 0, 0)
    route = network.route(frozenset(network.weights), image=True)

    def loss() -> float:
        scores = network.forward(images, context=context).outputs[network.output]
        return float(cross_entropy(scores, wanted)[0].sum())

    trace = network.forward(images, route=route, context=context)
    _, seed = cross_entropy(trace.outputs[network.output], wanted)
    nodes, result = network.backward(trace, {network.output: seed}, route)
    check(loss, images, nodes[IMAGE], random, 40)
    for node, arrays in result.items():
        for name, grad in arrays.items():
            check(loss, network.weights[node][name], grad, random)


def test_the_gradient_of_a_linear_network_is_its_matrix() -> None:
    network = Network.start(NetworkPlan.stack([Flatten(), Output()]).with_outputs(3), (2, 2, 1), 0, np.float64)
    images = np.random.default_rng(0).standard_normal((1, 2, 2, 1))
    route = network.route(image=True)
    trace = network.forward(images, route=route)
    nodes, _ = network.backward(trace, {"output": np.array([[0.0, 1.0, 0.0]])}, route)
    assert np.array_equal(nodes[IMAGE].reshape(-1), network.weights["output"]["matrix"][:, 1])
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


@pytest.mark.parametrize(
    "kind",
    [kind for kind, layer in planned_layers.items() if not (layer.joins or layer.is_input or kind == "output")],
)
def test_the_proof_fails_if_a_sign_is_flipped(kind: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """A mutation check: a backward pass with one gradient turned round is found out, layer by layer."""
    settings_ = planned_layers[kind]()
    layer: Any = LAYERS[kind]
    shape = (2, 12) if kind in ("fully connected", "codes", "normal codes") else (2, 6, 6, 8)
    if isinstance(settings_, Connected | Convolution | TransposedConvolution):
        name = "units" if isinstance(settings_, Connected) else "filters"
        settings_ = settings_.with_(**{name: 3})
    agree(settings_, shape, 1)
    true = layer.backward
    arrays = [None, *settings_.weight_shapes(shape[1:])]
    for flipped in arrays:

        def turned(
            self: Any, grad: Any, stored: Any, weights: Any, inputs: Any, parameters: Any, own: str | None = flipped
        ) -> tuple[Any, dict[str, Any]]:
            onward, result = true(self, grad, stored, weights, inputs, parameters)
            if own is None:
                return -onward, result
            return onward, {**result, own: -result[own]}

        monkeypatch.setattr(layer, "backward", turned)
        with pytest.raises(AssertionError):
            agree(settings_, shape, 1)
        monkeypatch.setattr(layer, "backward", true)
