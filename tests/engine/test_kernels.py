"""Fast kernels against slow, obvious ones."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from attentive_lens.engine.folding import folded
from attentive_lens.engine.kernels import direct
from attentive_lens.engine.kernels.direct import Window, convolve, input_gradient, ready, weight_gradient
from attentive_lens.engine.kernels.direct_loops import Room, Target, Walk, correlate, correlate_with_gradient
from attentive_lens.engine.layers import INFERENCE, LAYERS
from attentive_lens.engine.network import Network
from attentive_lens.plan.initialisations import He
from attentive_lens.plan.layers import (
    AveragePooling,
    Convolution,
    DoesNotFit,
    Flatten,
    MaxPooling,
    Output,
    ParametricRelu,
    ScaleAndShift,
)
from attentive_lens.plan.network import NetworkPlan


@dataclass(frozen=True)
class Slow:
    """A convolution and its gradients, one place of the window after the other, in float64."""

    out: np.ndarray
    to_images: np.ndarray
    to_kernel: np.ndarray

    @classmethod
    def of(cls, images: np.ndarray, kernel: np.ndarray, grad: np.ndarray, window: Window) -> Slow:
        """Every output pixel sees one pixel of the padded images through each place of the window."""
        step, (rows, columns) = window.stride, grad.shape[1:3]
        padded = np.pad(images.astype(np.float64), ((0, 0), *window.pads, (0, 0)))
        out, back, by_place = np.zeros(grad.shape), np.zeros_like(padded), np.zeros(kernel.shape)
        for u, v in np.ndindex(*window.kernel):
            down, across = u * window.dilation, v * window.dilation
            seen = np.s_[:, down : down + step * rows : step, across : across + step * columns : step]
            out += padded[seen][:, :rows, :columns] @ kernel[u, v].astype(np.float64)
            by_place[u, v] = np.tensordot(padded[seen][:, :rows, :columns], grad.astype(np.float64), ((0, 1, 2),) * 2)
            back[seen][:, :rows, :columns] += grad @ kernel[u, v].T.astype(np.float64)
        (top, _), (left, _) = window.pads
        return cls(out, back[:, top : top + images.shape[1], left : left + images.shape[2]], by_place)


def close(fast: np.ndarray, slow: np.ndarray, within: float = 1e-5) -> None:
    assert fast.shape == slow.shape
    assert np.abs(fast - slow).max(initial=0) <= within * max(1.0, float(np.abs(slow).max(initial=0)))


counts = st.sampled_from([1, 2, 3, 5, 8, 9, 15, 16, 17, 31, 33, 48, 65])
shapes = st.tuples(st.integers(1, 3), st.integers(1, 20), st.integers(1, 20), counts, counts)
zeros = st.tuples(st.integers(0, 4), st.integers(0, 4))
sides = st.tuples(st.integers(1, 5), st.integers(1, 5))
moves = st.builds(Window, sides, st.integers(1, 4), st.tuples(zeros, zeros), st.integers(1, 3))


@settings(max_examples=150, deadline=None)
@given(shapes, moves, st.sampled_from([np.float32, np.float64]), st.integers(0, 999))
def test_a_convolution_and_its_gradients_are_the_slow_ones(
    shape: tuple[int, int, int, int, int], window: Window, dtype: type, seed: int
) -> None:
    n, height, width, channels, filters = shape
    assume(min(window.counts(height, width)) >= 1)
    random = np.random.default_rng(seed)
    images = random.standard_normal((n, height, width, channels)).astype(dtype)
    kernel = random.standard_normal((*window.kernel, channels, filters)).astype(dtype)
    bias = random.standard_normal(filters).astype(dtype)
    grad = random.standard_normal((n, *window.counts(height, width), filters)).astype(dtype)
    slow, within = Slow.of(images, kernel, grad, window), 1e-5 if dtype == np.float32 else 1e-13
    made = ready(kernel, window)
    for filters_ready in (None, made):
        close(convolve(images, kernel, window, None, False, filters_ready), slow.out, within)
        close(convolve(images, kernel, window, bias, True, filters_ready), np.maximum(slow.out + bias, 0), within)
        close(input_gradient(grad, kernel, window, height, width, filters_ready), slow.to_images, within)
    close(weight_gradient(images, grad, window), slow.to_kernel, within)


@settings(max_examples=40, deadline=None)
@given(shapes, moves, st.integers(0, 999))
def test_nothing_is_written_or_counted_outside_the_arrays(
    shape: tuple[int, int, int, int, int], window: Window, seed: int
) -> None:
    n, height, width, channels, filters = shape
    assume(min(window.counts(height, width)) >= 1)
    random = np.random.default_rng(seed)

    def within_nothing(*sides: int) -> np.ndarray:
        """Numbers between others that are none: whoever reads or writes beyond them shows it."""
        size = int(np.prod(sides))
        whole = np.full(size + 512, np.nan, np.float32)
        whole[256 : 256 + size] = random.standard_normal(size, np.float32)
        return whole[256 : 256 + size].reshape(sides)

    images, kernel = within_nothing(n, height, width, channels), within_nothing(*window.kernel, channels, filters)
    grad = within_nothing(n, *window.counts(height, width), filters)
    for result in (
        convolve(images, kernel, window, within_nothing(filters), True),
        weight_gradient(images, grad, window),
        input_gradient(grad, kernel, window, height, width),
    ):
        assert np.isfinite(result).all()
    for array in (images, kernel, grad):
        whole = array.base
        assert whole is not None
        assert np.isnan(whole[:256]).all()
        assert np.isnan(whole[-256:]).all()


def furthest(walk: Walk, rows: int, columns: int, length: int) -> int:
    """The last value of an image that windows take."""
    corner = walk.first + (rows - 1) * walk.row + (columns - 1) * walk.column
    return corner + (walk.tall - 1) * walk.line + (walk.wide - 1) * walk.apart + length - 1


@settings(max_examples=100, deadline=None)
@given(shapes, moves)
def test_no_loop_is_sent_outside_its_arrays(shape: tuple[int, int, int, int, int], window: Window) -> None:
    n, height, width, channels, filters = shape
    assume(min(window.counts(height, width)) >= 1)

    def held(images: np.ndarray, room: Room, walk: Walk, count: int) -> int:
        return room.values.size if room.rows else images.size - (count - 1) * walk.image

    def looked_at(images: np.ndarray, room: Room, walk: Walk, panels: np.ndarray, lanes: int, bias: np.ndarray,
                  activate: bool, out: np.ndarray, to: Target) -> None:  # fmt: skip
        del activate, lanes
        assert walk.first >= 0
        assert furthest(walk, to.rows, to.columns, walk.length) < held(images, room, walk, to.images)
        written = to.first + (to.images - 1) * to.image + (to.rows - 1) * to.row + (to.columns - 1) * to.column
        assert written + to.filters <= out.size
        assert bias.size == to.filters
        assert panels.size % (walk.tall * walk.wide * walk.length) == 0
        assert panels.size // (walk.tall * walk.wide * walk.length) >= to.filters

    def added(images: np.ndarray, room: Room, walk: Walk, grad: np.ndarray, of: Target, lanes: int, span: int,
              out: np.ndarray) -> None:  # fmt: skip
        del lanes
        length = -(-walk.length // span) * span
        assert furthest(walk, of.rows, of.columns, length) < held(images, room, walk, of.images)
        assert of.images * of.rows * of.columns * of.filters == grad.size
        assert out.size == walk.tall * walk.wide * length * of.filters

    images = np.zeros((n, height, width, channels), np.float32)
    kernel = np.zeros((*window.kernel, channels, filters), np.float32)
    grad = np.zeros((n, *window.counts(height, width), filters), np.float32)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(direct, "correlate", looked_at)
        patch.setattr(direct, "correlate_with_gradient", added)
        convolve(images, kernel, window)
        input_gradient(grad, kernel, window, height, width)
        weight_gradient(images, grad, window)


def test_arrays_that_may_not_be_written_are_convolved_by_the_same_loops() -> None:
    window, random = Window.square(3, 1, 1, 1), np.random.default_rng(2)
    images, kernel = random.standard_normal((2, 6, 6, 3), np.float32), random.standard_normal((3, 3, 3, 4), np.float32)
    bias = random.standard_normal(4, np.float32)
    first = convolve(images, kernel, window, bias)
    back = weight_gradient(images, first, window)
    known = [len(loops.signatures) for loops in (correlate, correlate_with_gradient)]
    for array in (images, bias, first):
        array.flags.writeable = False
    assert (convolve(images, kernel, window, bias) == first).all()
    assert (weight_gradient(images, first, window) == back).all()
    input_gradient(first[:, :, ::-1], kernel, window, 6, 6)
    assert [len(loops.signatures) for loops in (correlate, correlate_with_gradient)] == known


def test_a_pixel_that_is_no_number_spoils_only_what_sees_it() -> None:
    images = np.ones((1, 9, 9, 3), np.float32)
    images[0, 4, 4, 1] = np.nan
    out = convolve(images, np.ones((3, 3, 3, 5), np.float32), Window.square(3, 1, 1, 1))
    spoilt = np.isnan(out[0, :, :, 0])
    assert spoilt[3:6, 3:6].all()
    assert spoilt.sum() == 9


def test_a_known_convolution() -> None:
    image = np.arange(9, dtype=np.float32).reshape(1, 3, 3, 1)
    kernel = np.array([[0, 0], [1, 2]], np.float32).reshape(2, 2, 1, 1)
    assert convolve(image, kernel, Window.square(2, 1, 0, 0))[0, :, :, 0].tolist() == [[11, 14], [20, 23]]
    assert convolve(image, kernel, Window.square(2, 2, 0, 1))[0, :, :, 0].tolist() == [[11, 5], [0, 0]]


def test_a_known_convolution_with_a_rectangular_window_and_unequal_padding() -> None:
    image = np.arange(9, dtype=np.float32).reshape(1, 3, 3, 1)
    kernel = np.array([[1, 10]], np.float32).reshape(1, 2, 1, 1)
    window = Window((1, 2), 1, ((1, 0), (0, 1)))
    assert convolve(image, kernel, window)[0, :, :, 0].tolist() == [[0, 0, 0], [10, 21, 2], [43, 54, 5], [76, 87, 8]]


@pytest.mark.parametrize("width", [1, (1, 1, 0, 0), (0, 2, 1, 1), (2, 0, 2, 0)])
def test_whichever_kernel_is_asked_for_gives_the_same_with_any_padding(width: int | tuple[int, ...]) -> None:
    settings = Convolution(filters=16, padding="explicit", padding_width=width)
    random = np.random.default_rng(3)
    images = random.standard_normal((2, 18, 18, 16), np.float32)
    results = []
    for kernels in ("direct", "tiles", "auto"):
        layer = LAYERS["convolution"]("convolution", settings)
        layer.kernels = kernels
        weights = layer.start((18, 18, 16), np.random.default_rng(0), np.dtype(np.float32), He())
        out, saved = layer.forward(images, weights, INFERENCE)
        grad, gradients = layer.backward(np.ones_like(out), saved, weights, True, True)
        results.append((out, grad, gradients["kernel"]))
    for other in results[1:]:
        for mine, theirs in zip(results[0], other, strict=True):
            close(theirs, mine)


def test_windows_that_reach_outside_count_what_they_hold() -> None:
    image = -np.arange(1, 10, dtype=np.float32).reshape(1, 3, 3, 1)
    settings = {"kernel_size": (2, 3), "stride": 2, "padding_width": (1, 0, 0, 0), "ceil_mode": True}
    greatest, _ = LAYERS["max pooling"]("pool", MaxPooling(**settings)).forward(image, {}, INFERENCE)
    mean, _ = LAYERS["average pooling"]("pool", AveragePooling(**settings)).forward(image, {}, INFERENCE)
    assert greatest[0, :, :, 0].tolist() == [[-1], [-4]], "zeros outside would be greater"
    assert mean[0, :, :, 0].tolist() == [[-2], [-6.5]]
    tall = {"kernel_size": 2, "stride": 2, "ceil_mode": True}
    mean, _ = LAYERS["average pooling"]("pool", AveragePooling(**tall)).forward(image, {}, INFERENCE)
    assert mean[0, :, :, 0].tolist() == [[-3, -4.5], [-7.5, -9]]


def test_a_learned_slope_takes_what_is_negative_and_its_gradient_is_the_sum_of_it() -> None:
    layer = LAYERS["parametric relu"]("slope", ParametricRelu(initial_slope=0.5))
    weights = {"slope": np.array([0.5, 0.25], np.float32)}
    out, saved = layer.forward(np.array([[2, -4], [-6, 8]], np.float32), weights, INFERENCE)
    assert out.tolist() == [[2, -1], [-3, 8]]
    grad, gradients = layer.backward(np.array([[1, 2], [3, 4]], np.float32), saved, weights, True, True)
    assert gradients["slope"].tolist() == [-18, -8]
    assert grad is not None
    assert grad.tolist() == [[1, 0.5], [1.5, 4]]


def test_scale_and_shift_is_folded_into_the_convolution_before_it() -> None:
    network = Network.start(
        NetworkPlan.stack([Convolution(filters=3), ScaleAndShift(), Flatten(), Output()]).with_outputs(2), (6, 6, 3), 1
    )
    network.weights["scale and shift 1"]["scale"][:] = [2, -1, 0.5]
    network.weights["scale and shift 1"]["shift"][:] = [1, 2, 3]
    images = np.random.default_rng(0).standard_normal((4, 6, 6, 3), np.float32)
    fewer = folded(network)
    assert [node.name for node in fewer.plan.nodes] == ["convolution 1", "flatten 1", "output"]
    assert np.allclose(*(net.forward(images).outputs["output"] for net in (fewer, network)), atol=1e-5)


@settings(max_examples=60, deadline=None)
@given(
    st.tuples(st.integers(1, 3), st.integers(1, 3)),
    st.integers(1, 3),
    st.tuples(*[st.integers(0, 2)] * 4),
    st.booleans(),
    st.integers(3, 9),
    st.integers(3, 9),
)
def test_greatest_values_and_where_they_stand_are_those_of_a_slow_search(
    window: tuple[int, int], stride: int, padding: tuple[int, int, int, int], ceil: bool, height: int, width: int
) -> None:
    layer_settings = MaxPooling(kernel_size=window, stride=stride, padding_width=padding, ceil_mode=ceil)
    try:
        rows, columns, _ = layer_settings.output_shape((height, width, 2))
    except DoesNotFit:
        assume(False)
    image = -1 - np.random.default_rng(height).permutation(height * width * 2).reshape(1, height, width, 2).astype(
        float
    )
    layer = LAYERS["max pooling"]("pool", layer_settings)
    out, stored = layer.forward(image, {}, INFERENCE)
    grad, _ = layer.backward(np.ones_like(out), stored, {}, True, True)
    wanted, back = np.empty_like(out), np.zeros_like(image)
    (above, _), (before, _) = layer_settings.pads
    for r in range(rows):
        for c in range(columns):
            top, left = r * stride - above, c * stride - before
            inside = np.full_like(image, -np.inf)
            place = np.s_[0, max(0, top) : max(0, top + window[0]), max(0, left) : max(0, left + window[1])]
            inside[place] = image[place]
            for channel in range(2):
                at = np.unravel_index(inside[0, :, :, channel].argmax(), (height, width))
                wanted[0, r, c, channel] = image[0, at[0], at[1], channel]
                back[0, at[0], at[1], channel] += 1
    assert np.array_equal(out, wanted)
    assert grad is not None
    assert np.array_equal(grad, back)
