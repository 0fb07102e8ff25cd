"""Two models on the same images, against an independent statistics library, published figures and laws."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from attentive_lens.scoring.paired import _interval, chance_of, in_words, paired
from attentive_lens.scoring.scores import Scores, scored


def answered(right: list[bool], numbers: list[int], classes: int = 3) -> Scores:
    true = np.array(numbers, np.int64) % classes
    predicted = np.where(right, true, (true + 1) % classes)
    answers = np.eye(classes)[predicted]
    names = [f"class {k}" for k in range(classes)]
    return scored("validation", names, numbers, true, predicted, answers, np.ones(len(true)), "x")


@given(st.integers(0, 60), st.integers(0, 60))
def test_chance_is_that_of_an_exact_binomial_test(fixed: int, broken: int) -> None:
    expected = stats.binomtest(fixed, fixed + broken).pvalue if fixed + broken else 1.0
    assert chance_of(fixed, broken) == pytest.approx(expected)


@pytest.mark.parametrize("images", [30, 120])
@pytest.mark.parametrize("shares", [(0.7, 0.1, 0.05, 0.15), (0.5, 0.0, 0.2, 0.3), (0.9, 0.02, 0.02, 0.06)])
def test_intervals_hold_the_true_difference_as_often_as_they_say(
    shares: tuple[float, float, float, float], images: int
) -> None:
    rng = np.random.default_rng(5)
    true, held = shares[1] - shares[2], 0
    for cells in rng.multinomial(images, shares, 2000).tolist():
        low, high = _interval(*cells)
        held += low - 1e-12 <= true <= high + 1e-12
    assert held / 2000 > 0.93


@given(st.lists(st.tuples(st.booleans(), st.booleans()), min_size=1, max_size=50))
def test_laws(pairs: list[tuple[bool, bool]]) -> None:
    numbers = list(range(1, len(pairs) + 1))
    one, other = answered([a for a, _ in pairs], numbers), answered([b for _, b in pairs], numbers)
    result, back = paired(one, other), paired(other, one)
    assert (result.fixed, result.broken, result.still_wrong) == (back.broken, back.fixed, back.still_wrong)
    assert result.difference == pytest.approx(other.accuracy - one.accuracy)
    assert (result.low, result.high) == (pytest.approx(-(back.high or 0)), pytest.approx(-(back.low or 0)))
    assert result.low is not None
    assert result.high is not None
    assert -1 <= result.low <= result.difference <= result.high <= 1  # type: ignore[operator]
    assert sum(each.fixed for each in result.by_class) == len(result.fixed)
    assert sum(each.images for each in result.by_class) == result.images == len(pairs)
    assert f"fixes {len(result.fixed)} mistakes of run 1" in in_words(result, 1, 2)


def test_only_images_in_common_count_and_none_are_told() -> None:
    one, other = answered([True, False, False], [1, 2, 3]), answered([True, False, True], [3, 4, 2])
    result = paired(one, other)
    assert (result.images, result.fixed, result.broken, result.still_wrong) == (2, (2, 3), (), ())
    nothing = paired(one, answered([True], [9]))
    assert (nothing.images, nothing.difference, nothing.p_value) == (0, None, None)
    assert "no image in common" in in_words(nothing, 1, 2)
