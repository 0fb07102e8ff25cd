"""Intervals that allow for groups: how often they hold what they should, against those that do not."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.stats import t

from attentive_lens.scoring.intervals import interval, interval_by_group, quantile_of_student

TRIALS, SHARE = 600, 0.8


@pytest.mark.parametrize("freedom", [1, 2, 3, 4, 5, 8, 12, 30, 200])
def test_the_quantile_is_student_s(freedom: int) -> None:
    assert quantile_of_student(freedom) == pytest.approx(float(t.ppf(0.975, freedom)), abs=0.01)


def held(groups: int, images: int, alike: float) -> tuple[float, float]:
    """How often an interval by group, and a plain one, hold the truth; a part of each group's images answered alike."""
    random, names = np.random.default_rng(3), np.repeat(np.arange(groups), images)
    by_group = plain = 0
    for _ in range(TRIALS):
        whole, alone = random.random((groups, 1)) < SHARE, random.random((groups, images)) < SHARE
        right = np.where(random.random((groups, images)) < alike, whole, alone).reshape(-1)
        low, high = interval_by_group(right, names)
        by_group += low <= SHARE <= high
        low, high = interval(float(right.mean()), len(right))
        plain += low <= SHARE <= high
    return by_group / TRIALS, plain / TRIALS


def test_where_groups_are_answered_alike_it_holds_the_truth_and_the_plain_one_does_not() -> None:
    by_group, plain = held(30, 6, 0.6)
    assert by_group >= 0.92
    assert plain < 0.85


def test_where_images_stand_alone_it_is_hardly_wider() -> None:
    by_group, plain = held(40, 5, 0.0)
    assert 0.93 <= by_group <= 0.99
    assert plain >= 0.92
    right, names = np.arange(200) % 5 > 0, np.arange(200)
    low, high = interval_by_group(right, names)
    plain_low, plain_high = interval(0.8, 200)
    assert high - low == pytest.approx(plain_high - plain_low, rel=0.03), "groups of one"


def test_all_right_counts_as_many_as_there_are_groups() -> None:
    low, high = interval_by_group(np.ones(60, bool), np.repeat(np.arange(6), 10))
    assert high == 1.0
    assert low == pytest.approx(interval(1.0, 6, quantile_of_student(5))[0])
