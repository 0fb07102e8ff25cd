"""Fast kernels against slow, obvious ones."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from scipy.signal import correlate

from attentive_lens.engine.kernels import gather
from attentive_lens.engine.kernels.gather import Window, convolve, input_gradient, weight_gradient
from attentive_lens.engine.layers import INFERENCE, LAYERS
from attentive_lens.plan.layers import MaxPooling


def slow_convolution(images: np.ndarray, kernel: np.ndarray, window: Window) -> np.ndarray:
    """By SciPy, one image and filter at a time, in float64."""
    a, b, s = window.before, window.after, window.stride
    padded = np.pad(images.astype(np.float64), ((0, 0), (a, b), (a, b), (0, 0)))
    planes = [
        [correlate(image, kernel[:, :, :, f].astype(np.float64), "valid")[::s, ::s, 0] for f in range(kernel.shape[3])]
        for image in padded
    ]
    return np.moveaxis(np.array(planes), 1, 3)


def close(fast: np.ndarray, slow: np.ndarray) -> None:
    assert fast.shape == slow.shape
    assert np.abs(fast - slow).max(initial=0) <= 1e-5 * max(1.0, float(np.abs(slow).max(initial=0)))


shapes = st.tuples(st.integers(1, 5), st.integers(1, 20), st.integers(1, 20), st.integers(1, 7), st.integers(1, 6))
moves = st.tuples(st.integers(1, 5), st.integers(1, 3), st.booleans())


@settings(max_examples=80, deadline=None)
@given(shapes, moves, st.sampled_from([600, 5000, gather.BLOCK_BYTES]), st.integers(0, 999))
def test_gathered_convolution_is_the_slow_one(
    shape: tuple[int, int, int, int, int], move: tuple[int, int, bool], block: int, seed: int
) -> None:
    n, height, width, channels, filters = shape
    k, stride, same = move
    window = Window(k, stride, (k - 1) // 2 if same else 0, k // 2 if same else 0)
    assume(min(height, width) + window.before + window.after >= k)
    random = np.random.default_rng(seed)
    images = random.standard_normal((n, height, width, channels), np.float32)
    kernel = random.standard_normal((k, k, channels, filters), np.float32)
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
    assert convolve(image, kernel, Window(2, 1, 0, 0))[0, :, :, 0].tolist() == [[11, 14], [20, 23]]
    assert convolve(image, kernel, Window(2, 2, 0, 1))[0, :, :, 0].tolist() == [[11, 5], [0, 0]]


def test_pooling_takes_the_greatest_and_gives_the_gradient_to_the_first_of_equals() -> None:
    layer = LAYERS["max pooling"]("pool", MaxPooling())
    image = np.array([[1, 5, 2, 2], [5, 0, 2, 2], [9, 9, 9, 9]], np.float32).reshape(1, 3, 4, 1)
    out, kept = layer.forward(image, {}, INFERENCE)
    assert out.reshape(-1).tolist() == [5, 2]
    grad, _ = layer.backward(np.array([10, 20], np.float32).reshape(out.shape), kept, {}, True, True)
    assert grad is not None
    assert grad[0, :, :, 0].tolist() == [[0, 10, 20, 0], [0, 0, 0, 0], [0, 0, 0, 0]]
