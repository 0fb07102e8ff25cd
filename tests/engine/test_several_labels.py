"""Losses of several labels, and one label asked about as two classes."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.engine.losses import (
    Loss,
    balanced_labels,
    label_cross_entropy,
    one_hot,
    sigmoid_cross_entropy,
)
from attentive_lens.engine.outputs import OUTPUTS, OneLabel
from attentive_lens.engine.special import expit
from attentive_lens.plan.losses import SigmoidCrossEntropy


def drawn(n: int = 5, k: int = 4, seed: int = 2) -> tuple[np.ndarray, np.ndarray]:
    random = np.random.default_rng(seed)
    return random.normal(0, 2, (n, k)), (random.random((n, k)) < 0.4).astype(float)


def test_the_weighted_loss_is_that_of_each_label_times_its_weight() -> None:
    scores, there = drawn()
    weights = np.random.default_rng(5).random(scores.shape) + 0.2
    losses, gradient = label_cross_entropy(scores, there, weights)
    by_hand = -(there * np.log(expit(scores)) + (1 - there) * np.log(1 - expit(scores)))
    assert losses == pytest.approx((weights * by_hand).sum(axis=1))
    assert label_cross_entropy(scores, there, np.ones_like(scores))[0] == pytest.approx(
        sigmoid_cross_entropy(scores, there)[0]
    )
    for i, k in np.ndindex(*scores.shape):
        ends = []
        for h in (1e-6, -1e-6):
            moved = scores.copy()
            moved[i, k] += h
            ends.append(label_cross_entropy(moved, there, weights)[0][i])
        assert (ends[0] - ends[1]) / 2e-6 == pytest.approx(gradient[i, k], abs=1e-6)


def test_balanced_labels_weigh_both_sides_the_same() -> None:
    counts, images = np.array([10, 50, 90, 0, 100]), 100
    weights = balanced_labels(counts, images)
    assert weights[:3] * counts[:3] == pytest.approx(images - counts[:3])
    assert np.isfinite(weights).all() and (weights > 0).all()
    loss = Loss.of(SigmoidCrossEntropy(class_weights="balanced"), counts, images)
    assert loss.several and loss.class_weights is not None
    zeros = np.zeros((100, 5))
    there = (np.arange(100)[:, None] < counts).astype(float)
    _, gradient = loss(zeros, there)
    assert gradient.sum(axis=0)[:3] == pytest.approx(0, abs=1e-4), "at 0.5 neither side pulls more"


def test_smoothing_takes_each_label_towards_a_half() -> None:
    scores, there = drawn()
    loss = Loss.of(SigmoidCrossEntropy(label_smoothing=0.2), np.ones(4, np.int64), 9)
    assert loss(scores, there)[0] == pytest.approx(sigmoid_cross_entropy(scores, 0.8 * there + 0.1)[0])
    assert loss.plain(scores, there) == pytest.approx(sigmoid_cross_entropy(scores, there)[0])
    one = Loss.of(SigmoidCrossEntropy(label_smoothing=0.2))
    assert not one.several
    assert one(scores, there)[0] == pytest.approx(sigmoid_cross_entropy(scores, 0.8 * there + 0.05)[0])


def test_an_image_is_right_when_every_label_is() -> None:
    several, exclusive = Loss("sigmoid cross-entropy", several=True), Loss("sigmoid cross-entropy")
    scores = np.array([[1.0, -1.0], [1.0, 2.0], [-1.0, -3.0], [1.0, -1.0]])
    wanted = np.array([[1.0, 0.0], [1.0, 1.0], [0.0, 0.0], [1.0, 1.0]])
    assert several.right(scores, wanted, scores) == 3
    labels = np.array([0, 1, 0, 1])
    assert exclusive.right(scores, one_hot(labels, 2), scores) == 3


@given(
    st.integers(1, 6).flatmap(lambda k: st.tuples(st.just(k), st.integers(0, k - 1))),
    st.floats(0.001, 0.999),
    st.integers(0, 2**30),
)
def test_one_label_says_what_its_threshold_says(of: tuple[int, int], threshold: float, seed: int) -> None:
    (k, place), random = of, np.random.default_rng(seed)
    output = OneLabel(place, k, threshold)
    raw = random.normal(0, 4, (20, k))
    scores = output.spread(raw)
    answers, probability = output.answers(scores), expit(raw[:, place])
    assert output.outputs(2) == k and scores.shape == (20, 2)
    assert answers[:, 1] == pytest.approx(probability) and answers.sum(axis=1) == pytest.approx(1)
    clear = np.abs(probability - threshold) > 1e-9
    assert (scores.argmax(axis=1) == (probability > threshold))[clear].all()
    other = raw.copy()
    other[:, [n for n in range(k) if n != place]] += 5
    assert np.array_equal(output.spread(other), scores), "other labels change nothing"


def test_its_gradients_go_to_its_own_score_alone() -> None:
    output, random = OneLabel(1, 3, 0.2), np.random.default_rng(4)
    raw, gradient = random.normal(0, 1, (6, 3)), random.normal(0, 1, (6, 2))
    plain = OneLabel(1, 3, 0.5)
    inner = (plain.spread(raw) * gradient).sum()
    assert inner == pytest.approx((raw * plain.gather(gradient)).sum()), "spreading, transposed"
    assert not output.gather(gradient)[:, [0, 2]].any()
    weights = random.normal(0, 1, (6, 2))
    result = output.gradient(output.spread(raw), weights)
    for i in range(6):
        for c in range(2):
            ends = []
            for h in (1e-6, -1e-6):
                moved = output.spread(raw)
                moved[i, c] += h
                ends.append((output.answers(moved) * weights)[i].sum())
            assert (ends[0] - ends[1]) / 2e-6 == pytest.approx(result[i, c], abs=1e-6)


@pytest.mark.parametrize("threshold", [0.0, 1.0])
def test_thresholds_that_no_probability_passes_are_numbers(threshold: float) -> None:
    scores = OneLabel(0, 2, threshold).spread(np.zeros((1, 2), np.float32))
    assert np.isfinite(scores).all() and scores.argmax() == (0 if threshold else 1)
    assert OUTPUTS["sigmoid"].answers(np.zeros((1, 2)))[0, 0] == 0.5


def test_weights_go_by_what_is_there_and_smoothing_by_what_is_wanted() -> None:
    scores, there = drawn()
    counts = np.array([2, 3, 5, 4])
    loss = Loss.of(SigmoidCrossEntropy(class_weights="balanced", label_smoothing=0.2), counts, 9)
    weights = np.where(there > 0, (9 - counts) / counts, 1.0)
    wanted = 0.8 * there + 0.1
    by_hand = (weights * -(wanted * np.log(expit(scores)) + (1 - wanted) * np.log(1 - expit(scores)))).sum(axis=1)
    assert loss(scores, there)[0] == pytest.approx(by_hand)
