"""Fast kernels against slow, obvious ones."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from scipy.signal import correlate

from attentive_lens.engine.folding import folded
from attentive_lens.engine.kernels import gather
from attentive_lens.engine.kernels.gather import Window, convolve, input_gradient, weight_gradient
from attentive_lens.engine.layers import INFERENCE, LAYERS
from attentive_lens.engine.network import Network
from attentive_lens.plan.initialisations import He
from attentive_lens.plan.layers import (
    AveragePooling,
    Convolution,
    Flatten,
    MaxPooling,
    Output,
    ParametricRelu,
    ScaleAndShift,
)
from attentive_lens.plan.network import NetworkPlan


def slow_convolution(images: np.ndarray, kernel: np.ndarray, window: Window) -> np.ndarray:
    """By SciPy, one image and filter at a time, in float64."""
    s = window.stride
    padded = np.pad(images.astype(np.float64), ((0, 0), *window.pads, (0, 0)))
    planes = [
        [correlate(image, kernel[:, :, :, f].astype(np.float64), "valid")[::s, ::s, 0] for f in range(kernel.shape[3])]
        for image in padded
    ]
    return np.moveaxis(np.array(planes), 1, 3)


def close(fast: np.ndarray, slow: np.ndarray) -> None:
    assert fast.shape == slow.shape
    assert np.abs(fast - slow).max(initial=0) <= 1e-5 * max(1.0, float(np.abs(slow).max(initial=0)))


shapes = st.tuples(st.integers(1, 5), st.integers(1, 20), st.integers(1, 20), st.integers(1, 7), st.integers(1, 6))
zeros = st.tuples(st.integers(0, 4), st.integers(0, 4))
moves = st.builds(Window, st.tuples(st.integers(1, 5), st.integers(1, 5)), st.integers(1, 3), st.tuples(zeros, zeros))


@settings(max_examples=80, deadline=None)
@given(shapes, moves, st.sampled_from([600, 5000, gather.BLOCK_BYTES]), st.integers(0, 999))
def test_gathered_convolution_is_the_slow_one(
    shape: tuple[int, int, int, int, int], window: Window, block: int, seed: int
) -> None:
    n, height, width, channels, filters = shape
    assume(min(window.counts(height, width)) >= 1)
    random = np.random.default_rng(seed)
    images = random.standard_normal((n, height, width, channels), np.float32)
    kernel = random.standard_normal((*window.kernel, channels, filters), np.float32)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(gather, "BLOCK_BYTES", block)
        out = convolve(images, kernel, window)
        close(out, slow_convolution(images, kernel, window))
        grad = random.standard_normal(out.shape, np.float32)
        # Both gradients follow from linearity: <grad, conv(x, k)> is their sum of products with x and with k.
        whole = float((grad.astype(np.float64) * out).sum())
        by_image = float((input_gradient(grad, kernel, window, height, width).astype(np.float64) * images).sum())
        by_kernel = float((weight_gradient(images, grad, window).astype(np.float64) * kernel).sum())
    scale = float(np.abs(grad * out).sum()) + 1
    assert abs(by_image - whole) < 1e-5 * scale
    assert abs(by_kernel - whole) < 1e-5 * scale


def test_a_known_convolution() -> None:
    image = np.arange(9, dtype=np.float32).reshape(1, 3, 3, 1)
    kernel = np.array([[0, 0], [1, 2]], np.float32).reshape(2, 2, 1, 1)
    assert convolve(image, kernel, Window.square(2, 1, 0, 0))[0, :, :, 0].tolist() == [[11, 14], [20, 23]]
    assert convolve(image, kernel, Window.square(2, 2, 0, 1))[0, :, :, 0].tolist() == [[11, 5], [0, 0]]


def test_pooling_takes_the_greatest_and_gives_the_gradient_to_the_first_of_equals() -> None:
    layer = LAYERS["max pooling"]("pool", MaxPooling())
    image = np.array([[1, 5, 2, 2], [5, 0, 2, 2], [9, 9, 9, 9]], np.float32).reshape(1, 3, 4, 1)
    out, kept = layer.forward(image, {}, INFERENCE)
    assert out.reshape(-1).tolist() == [5, 2]
    grad, _ = layer.backward(np.array([10, 20], np.float32).reshape(out.shape), kept, {}, True, True)
    assert grad is not None
    assert grad[0, :, :, 0].tolist() == [[0, 10, 20, 0], [0, 0, 0, 0], [0, 0, 0, 0]]


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
    for kernels in ("gather", "tiles", "auto"):
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
