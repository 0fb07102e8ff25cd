"""Equal values in a pooling window: the first learns, all of them explain."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from attentive_lens.engine.layers import INFERENCE, LAYERS, Call, StepContext
from attentive_lens.plan.layers import GlobalPooling, MaxPooling

TRAINING = Call(StepContext(1, 0, 0, 0))
IMAGE = np.array([[1, 5, 2, 2], [5, 0, 2, 2], [9, 9, 9, 9]], np.float32).reshape(1, 3, 4, 1)


def back(settings: MaxPooling | GlobalPooling, image: np.ndarray, grad: list[float], call: Call) -> np.ndarray:
    """The gradient by an image, 1×H×W×1, of a layer whose output has this one."""
    layer = LAYERS[settings.kind]("pool", settings)
    out, saved = layer.forward(image, {}, call)
    gradient, _ = layer.backward(np.array(grad, image.dtype).reshape(out.shape), saved, {}, True, True)
    assert gradient is not None
    assert gradient.dtype == image.dtype
    return np.asarray(gradient[0, :, :, 0])


def test_in_training_the_first_of_equals_learns() -> None:
    out, _ = LAYERS["max pooling"]("pool", MaxPooling()).forward(IMAGE, {}, TRAINING)
    assert out.reshape(-1).tolist() == [5, 2]
    assert back(MaxPooling(), IMAGE, [10, 20], TRAINING).tolist() == [[0, 10, 20, 0], [0, 0, 0, 0], [0, 0, 0, 0]]
    whole = back(GlobalPooling(mode="max"), IMAGE, [8], TRAINING)
    assert whole.tolist() == [[0, 0, 0, 0], [0, 0, 0, 0], [8, 0, 0, 0]]


def test_where_gradients_explain_equals_share() -> None:
    shared = back(MaxPooling(), IMAGE, [10, 20], INFERENCE)
    assert shared.tolist() == [[0, 5, 5, 5], [5, 0, 5, 5], [0, 0, 0, 0]]
    assert back(GlobalPooling(mode="max"), IMAGE, [8], INFERENCE)[2].tolist() == [2, 2, 2, 2]


def test_what_rounding_sets_apart_is_equal_and_what_differs_is_not() -> None:
    near, far = np.full((1, 2, 2, 1), 3.0, np.float32), np.full((1, 2, 2, 1), -3.0, np.float32)
    near[0, 1, 1], far[0, 1, 1] = 3.000001, -2.99
    for pooling in (MaxPooling(), GlobalPooling(mode="max")):
        assert back(pooling, near, [4], INFERENCE).tolist() == [[1, 1], [1, 1]]
        assert back(pooling, far, [4], INFERENCE).tolist() == [[0, 0], [0, 4]]


@settings(max_examples=60)
@given(
    st.integers(2, 7), st.integers(2, 7), st.integers(1, 3), st.integers(1, 3), st.integers(1, 3), st.booleans(),
    st.integers(0, 1), st.integers(0, 2**32 - 1),
)  # fmt: skip
def test_sharing_is_what_a_slow_search_gives(
    height: int, width: int, tall: int, wide: int, stride: int, ceil: bool, pad: int, seed: int
) -> None:
    if (min(tall, wide) == 1 and pad) or tall > height or wide > width:
        return
    chosen = MaxPooling(kernel_size=(tall, wide), stride=stride, padding_width=pad, ceil_mode=ceil)
    rng = np.random.default_rng(seed)
    image = rng.integers(-2, 2, (1, height, width, 1)).astype(np.float64)
    _, rows, columns, _ = LAYERS["max pooling"]("pool", chosen).forward(image, {}, INFERENCE)[0].shape
    grad = rng.standard_normal(rows * columns)
    wanted = np.zeros((height, width))
    for place, share in enumerate(grad):
        top, left = (place // columns) * stride - pad, (place % columns) * stride - pad
        window = [
            (y, x)
            for y in range(max(0, top), min(height, top + tall))
            for x in range(max(0, left), min(width, left + wide))
        ]
        greatest = [(y, x) for y, x in window if image[0, y, x, 0] == max(image[0, j, i, 0] for j, i in window)]
        for y, x in greatest:
            wanted[y, x] += share / len(greatest)
    assert back(chosen, image, grad.tolist(), INFERENCE) == pytest.approx(wanted)
