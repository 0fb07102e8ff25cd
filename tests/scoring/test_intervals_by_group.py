"""Intervals that allow for groups: how often they hold what they should, against those that do not."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy.stats import t

from attentive_lens.scoring.gaps import difference, gaps_in_words, small_in_words
from attentive_lens.scoring.intervals import interval, interval_by_group, quantile_of_student
from attentive_lens.scoring.measures import Share
from attentive_lens.scoring.paired import Paired, chance_of, paired
from attentive_lens.scoring.scores import Scores, scored
from attentive_lens.scoring.slices import slices_of

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


def test_every_share_of_scores_is_told_by_group() -> None:
    random = np.random.default_rng(8)
    true = np.repeat(np.arange(2), 60)
    groups = np.arange(120) // 6
    predicted = np.where(np.repeat(random.random(20) < 0.7, 6), true, 1 - true)  # those of a group are answered alike
    answers = np.eye(2)[predicted] * 0.8 + 0.1

    def shares(of: NDArray[np.int64] | None) -> list[Share]:
        whole = scored("test", "ab", range(1, 121), true, predicted, answers, np.ones(120), "x", groups=of).measures
        overview = [whole.overview.accuracy, *(share for _, share in whole.overview.top)]
        return overview + [share for each in whole.by_class for share in (each.precision, each.recall)]

    plain = shares(None)
    for apart, together in zip(plain, shares(groups), strict=True):
        assert (apart.count, apart.of, apart.value) == (together.count, together.of, together.value)
        assert width(together) > 1.5 * width(apart)
    assert shares(np.arange(120)) == plain
    assert {(share.low, share.high) for share in shares(np.zeros(120, np.int64))} == {(0.0, 1.0)}
    (dark, *_) = slices_of(np.arange(120), predicted == true, {"w": np.where(true, "x", "y")}, None, groups)
    assert width(dark.right) > 1.5 * width(Share.made(dark.right.count, dark.right.of))


def width(share: Share) -> float:
    assert share.low is not None and share.high is not None
    return share.high - share.low


def test_two_runs_are_compared_group_by_group() -> None:
    groups = np.arange(120) // 6
    true = np.zeros(120, np.int64)

    def judged(wrong: set[int], of: NDArray[np.int64] | None) -> Scores:
        predicted = np.isin(groups, list(wrong)).astype(np.int64)
        return scored("test", "ab", range(1, 121), true, predicted, np.eye(2)[predicted], np.ones(120), "x", groups=of)

    def compared(one: set[int], other: set[int], of: NDArray[np.int64] | None) -> Paired:
        result = paired(judged(one, of), judged(other, of))
        assert result.low is not None and result.difference is not None and result.high is not None
        assert result.low <= result.difference <= result.high
        return result

    alone, together = (compared({1, 2, 3, 4, 5}, {6}, of) for of in (None, groups))
    assert (len(alone.fixed), len(alone.broken)) == (len(together.fixed), len(together.broken)) == (30, 6)
    assert alone.p_value == chance_of(30, 6) < 0.001
    assert together.p_value == chance_of(5, 1) > 0.2
    assert (alone.low or 0) > 0 > (together.low or 0)
    same = compared({1}, {1}, groups)
    assert same.p_value == 1
    assert same.high == compared({1}, {1}, None).high > 0  # type: ignore[operator]
    one_group = compared({1, 2}, {1}, np.zeros(120, np.int64))
    assert (one_group.low, one_group.high, one_group.p_value) == (-1, 1, 1)


def test_sets_of_one_run_are_apart_group_by_group() -> None:
    groups = np.arange(120) // 6

    def judged(on: str, of: NDArray[np.int64] | None, wrong: int) -> Scores:
        predicted = (groups < wrong).astype(np.int64)
        one = np.eye(2)[predicted]
        return scored(on, "ab", range(1, 121), np.zeros(120, np.int64), predicted, one, np.ones(120), "x", groups=of)

    for of, is_told in ((None, True), (groups, False)):
        sets = {"validation": judged("validation", of, 2), "test": judged("test", of, 6)}
        gap, low, high = difference(sets["validation"], sets["test"])
        assert gap == pytest.approx(4 / 20)
        assert (low > 0) is is_told
        assert low < gap < high
        assert ("no more than by chance" in gaps_in_words(sets)[0]) is not is_told
        assert ("test (120 images" in small_in_words(sets)) is True
