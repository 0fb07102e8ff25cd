"""Similarity of representations: 1 for the same but for a rotation, nothing for the unrelated, whatever their size."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from attentive_lens.explaining.similarity import filter_changes, similarity


@settings(max_examples=40)
@given(seed=st.integers(0, 1000), images=st.integers(8, 40), features=st.integers(1, 60))
def test_a_rotation_a_shift_and_a_scale_change_nothing(seed: int, images: int, features: int) -> None:
    rng = np.random.default_rng(seed)
    one = rng.normal(size=(images, features))
    turn, _ = np.linalg.qr(rng.normal(size=(features, features)))
    other = one @ turn * rng.uniform(0.01, 100) + rng.normal(size=features) * 10
    assert similarity(one, other) == pytest.approx(1.0, abs=1e-6)
    assert similarity(other, one) == pytest.approx(similarity(one, other))


@pytest.mark.parametrize("features", [3, 30, 3000])
def test_the_unrelated_have_nothing_in_common_however_many_features_there_are(features: int) -> None:
    rng = np.random.default_rng(1)
    values = [similarity(rng.normal(size=(64, features)), rng.normal(size=(64, features))) for _ in range(20)]
    assert abs(np.mean(values)) < 0.05


def test_what_is_shared_in_part_lies_between() -> None:
    rng = np.random.default_rng(2)
    one = rng.normal(size=(200, 20))
    half = np.concatenate([one[:, :10], rng.normal(size=(200, 10))], axis=1)
    assert similarity(one, half) == pytest.approx(0.5, abs=0.1)


def test_what_is_the_same_for_all_images_has_no_similarity() -> None:
    rng = np.random.default_rng(3)
    assert math.isnan(similarity(np.ones((10, 3)), rng.normal(size=(10, 3))))
    with pytest.raises(ValueError, match="3 and 3 images"):
        similarity(np.ones((3, 1)), np.ones((3, 1)))


def test_the_estimate_is_unbiased_against_its_definition() -> None:
    """Song 2012, eq. 4: the mean over all fours of different images."""
    from itertools import permutations

    rng = np.random.default_rng(4)
    one, other = rng.normal(size=(7, 2)), rng.normal(size=(7, 3))
    centred = [rows - rows.mean(axis=0) for rows in (one, other)]
    first, second = (rows @ rows.T for rows in centred)

    def dependence(a: np.ndarray, b: np.ndarray) -> float:
        terms = [a[i, j] * (b[i, j] + b[q, r] - 2 * b[i, q]) for i, j, q, r in permutations(range(7), 4)]
        return float(np.mean(terms))

    plain = dependence(first, second) / math.sqrt(dependence(first, first) * dependence(second, second))
    assert similarity(one, other) == pytest.approx(plain)


def test_filters_are_told_by_how_much_each_changed() -> None:
    before = np.ones((3, 3, 2, 4), np.float32)
    after = before.copy()
    after[..., 2] *= 1.5
    after[..., 3] = 0
    assert filter_changes(before, after, -1).tolist() == [0, 0, 0.5, 1]
    assert filter_changes(before.transpose(3, 0, 1, 2), after.transpose(3, 0, 1, 2), 0).tolist() == [0, 0, 0.5, 1]
