"""Measures against their formulas, against an independent statistics library, and by laws that hold for any answers."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray
from scipy import stats

from attentive_lens.scoring.curves import curves_of
from attentive_lens.scoring.measures import (
    BINS,
    Share,
    calibration,
    calibration_error,
    confusions,
    fitted_temperature,
    overview,
    per_class,
    ranks_of_true,
)
from attentive_lens.scoring.scores import Scores, scored


def made(probabilities: NDArray[np.float64], true: NDArray[np.int64], output: str = "softmax") -> Scores:
    classes = [f"class {k}" for k in range(probabilities.shape[1])]
    losses = -np.log(np.maximum(probabilities[np.arange(len(true)), true], 1e-12))
    predicted = probabilities.argmax(axis=1)
    return scored("test", classes, range(1, len(true) + 1), true, predicted, probabilities, losses, "x", output)


def random_scores(images: int, classes: int, seed: int, sharp: float = 1.0) -> Scores:
    rng = np.random.default_rng(seed)
    raw = rng.normal(size=(images, classes)) * sharp
    true = rng.integers(0, classes, images)
    raw[np.arange(images), true] += sharp
    return made(np.exp(raw) / np.exp(raw).sum(axis=1, keepdims=True), true)


SMALL = made(
    np.array([[0.7, 0.2, 0.1], [0.6, 0.3, 0.1], [0.1, 0.8, 0.1], [0.5, 0.3, 0.2], [0.2, 0.3, 0.5]]),
    np.array([0, 1, 1, 0, 1]),
)
"""Said 0, 0, 1, 0, 2 of true 0, 1, 1, 0, 1; no image of class 2."""


def test_known_answers() -> None:
    zero, one, two = per_class(SMALL)
    assert (zero.precision.count, zero.precision.of, zero.recall.value, zero.f1) == (2, 3, 1.0, 0.8)
    assert (one.precision.value, one.recall.count, one.recall.of, one.f1) == (1.0, 1, 3, 0.5)
    assert (one.taken_for, one.taken, one.support) == ("class 0", 1, 3)
    assert one.confidence == pytest.approx((0.6 + 0.8 + 0.5) / 3)
    assert (two.recall, two.f1, two.support, two.taken_for) == (Share(0, 0, None, None, None), 0.0, 0, "")
    summary = overview(SMALL)
    assert (summary.accuracy.count, summary.accuracy.of) == (3, 5)
    assert summary.balanced_accuracy == pytest.approx((1 + 1 / 3) / 2)
    assert summary.macro_f1 == pytest.approx((0.8 + 0.5 + 0) / 3)
    assert (summary.chance, summary.majority) == (pytest.approx(1 / 3), 0.6)
    assert [(k, share.count) for k, share in summary.top] == [(2, 5)]
    assert ranks_of_true(SMALL).tolist() == [0, 1, 0, 0, 1]
    pairs = [(pair.true, pair.predicted, pair.images, pair.of) for pair in confusions(SMALL)]
    assert pairs == [("class 1", "class 0", 1, 3), ("class 1", "class 2", 1, 3)]


def test_answers_by_confidence() -> None:
    bins = calibration(SMALL)
    assert len(bins) == BINS
    assert [(each.images, each.right) for each in bins] == [(0, 0)] * 5 + [(2, 1), (1, 0), (1, 1), (1, 1), (0, 0)]
    gaps = abs(1 - (0.5 + 0.5)) + abs(0 - 0.6) + abs(1 - 0.7) + abs(1 - 0.8)
    assert calibration_error(SMALL) == pytest.approx(gaps / 5)
    accepted, right = SMALL.measures.withheld(60)
    assert (accepted.count, accepted.of, right.count, right.of) == (3, 5, 2, 3)
    nothing, none = SMALL.measures.withheld(100)
    assert (nothing.count, none.value) == (0, None)


def test_raw_scores_have_no_measures_of_confidence() -> None:
    measures = made(np.array([[7.0, -2.0], [3.0, 4.0]]), np.array([0, 0]), output="none").measures
    assert measures.overview.accuracy.count == 1 and len(measures.by_class) == 2
    assert (measures.calibration, measures.calibration_error, measures.accepted, measures.accepted_right) == (
        (),
        None,
        (),
        (),
    )


def test_intervals_are_those_of_an_independent_library() -> None:
    for count, of in ((0, 5), (3, 5), (5, 5), (97, 100), (1, 1)):
        theirs = stats.binomtest(count, of).proportion_ci(0.95, "wilson")
        share = Share.made(count, of)
        assert (share.low, share.high) == (pytest.approx(theirs.low, abs=1e-4), pytest.approx(theirs.high, abs=1e-4))


@settings(max_examples=60)
@given(images=st.integers(2, 60), classes=st.integers(2, 7), seed=st.integers(0, 999), coarse=st.booleans())
def test_the_area_under_a_curve_is_the_rank_statistic(images: int, classes: int, seed: int, coarse: bool) -> None:
    scores = random_scores(images, classes, seed)
    if coarse:  # ties
        scores = made(np.round(scores.probabilities.astype(np.float64), 1), np.array([a.true for a in scores.answers]))
    for number in range(classes):
        curves = curves_of(scores, number)
        own = np.array([answer.true == number for answer in scores.answers])
        values = scores.probabilities[:, number].astype(np.float64)
        if not own.any() or own.all():
            assert curves.area is curves.average_precision is None
            continue
        statistic = stats.mannwhitneyu(values[own], values[~own]).statistic
        assert curves.area == pytest.approx(statistic / (own.sum() * (~own).sum()))
        assert curves.recall[-1] == curves.false_positives[-1] == 1
        assert (np.diff(curves.recall) >= 0).all()
        assert (np.diff(curves.thresholds) < 0).all()
        assert 0 < (curves.average_precision or 0) <= 1 + 1e-12
        for place, threshold in enumerate(curves.thresholds):
            predicted = values >= threshold
            assert curves.precision[place] == pytest.approx(own[predicted].mean())
            assert curves.recall[place] == pytest.approx(predicted[own].mean())


@settings(max_examples=40)
@given(images=st.integers(1, 80), classes=st.integers(2, 9), seed=st.integers(0, 999))
def test_laws(images: int, classes: int, seed: int) -> None:
    scores = random_scores(images, classes, seed)
    summary, each = overview(scores), per_class(scores)
    assert sum(one.recall.count for one in each) == sum(one.precision.count for one in each) == summary.accuracy.count
    assert sum(one.support for one in each) == sum(one.precision.of for one in each) == images
    assert sum(one.images for one in confusions(scores)) == images - summary.accuracy.count
    assert sum(one.images for one in calibration(scores)) == images
    assert sum(one.right for one in calibration(scores)) == summary.accuracy.count
    for step in (0, 37, 50, 99, 100):
        accepted = [answer for answer in scores.answers if answer.probability >= step / 100]
        right = sum(answer.predicted == answer.true for answer in accepted)
        assert [(share.count, share.of) for share in scores.measures.withheld(step)] == [
            (len(accepted), images),
            (right, len(accepted)),
        ]
    assert summary.accuracy.value is not None
    tops = [summary.accuracy.value, *(share.value or 0 for _, share in summary.top)]
    assert tops == sorted(tops)
    order = np.random.default_rng(seed).permutation(classes)
    true = np.array([answer.true for answer in scores.answers])
    permuted = made(scores.probabilities.astype(np.float64)[:, order], np.argsort(order)[true])
    other = overview(permuted)
    assert other.accuracy == summary.accuracy
    assert other.balanced_accuracy == pytest.approx(summary.balanced_accuracy)
    assert other.macro_f1 == pytest.approx(summary.macro_f1)
    assert calibration_error(permuted) == pytest.approx(calibration_error(scores), abs=1e-6)  # answers are float32


@pytest.mark.parametrize("temperature", [0.4, 1.0, 2.5])
def test_a_temperature_that_was_put_in_is_found(temperature: float) -> None:
    rng = np.random.default_rng(0)
    raw = rng.normal(size=(20_000, 4)) * 1.5
    honest = np.exp(raw) / np.exp(raw).sum(axis=1, keepdims=True)
    true = (honest.cumsum(axis=1) > rng.random((len(raw), 1))).argmax(axis=1)
    warm = np.exp(raw * temperature)
    result = fitted_temperature(made(warm / warm.sum(axis=1, keepdims=True), true))
    assert result == pytest.approx(temperature, rel=0.05)
    assert fitted_temperature(made(raw, true, output="none")) is None


def test_a_class_is_taken_for_another_and_never_for_itself() -> None:
    """Eight of ten are right; of the others two of three go the same way."""
    answers = np.repeat([0, 2, 1], [7, 2, 1])
    scores = made(np.eye(3)[answers] * 0.8 + 0.2 / 3, np.zeros(10, np.int64))
    each = per_class(scores)[0]
    assert (each.taken_for, each.taken) == ("class 2", 2)
