"""Slices: planted weakness is found, chance is corrected for, and cutting is fair."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from attentive_lens.scoring.slices import FEWEST, _chance_within, _holm, slices_of


def test_a_planted_weakness_is_found_first_and_is_no_chance() -> None:
    rng = np.random.default_rng(0)
    dark, camera = rng.random(800), np.array(["one", "two", "three", "four"])[rng.integers(0, 4, 800)]
    right = rng.random(800) < np.where(dark < 0.25, 0.6, 0.95)
    result = slices_of(np.arange(1, 801), right, {"brightness": dark, "camera": camera})
    worst = result[0]
    assert worst.by == "brightness"
    assert worst.p_value < 1e-6
    assert set(worst.members.tolist()) == {int(k) + 1 for k in np.flatnonzero(dark < np.quantile(dark, 0.25))}
    assert worst.right.value == pytest.approx(right[worst.members - 1].mean())
    assert all(each.p_value > 0.05 for each in result if each.by == "camera")
    outside = np.setdiff1d(np.arange(800), worst.members - 1)
    assert worst.others == pytest.approx(right[outside].mean())


def test_where_nothing_is_wrong_something_is_found_as_rarely_as_said() -> None:
    rng, false = np.random.default_rng(1), 0
    for _ in range(200):
        right = rng.random(200) < 0.85
        values = {f"measure {k}": rng.random(200) for k in range(5)}
        false += any(each.p_value < 0.05 for each in slices_of(np.arange(1, 201), right, values))
    assert false / 200 < 0.09


@settings(max_examples=50)
@given(images=st.integers(0, 120), kinds=st.integers(1, 6), seed=st.integers(0, 999))
def test_laws(images: int, kinds: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    right, words = rng.random(images) < 0.7, np.array([f"w{k}" for k in rng.integers(0, kinds, images)], np.str_)
    numbers = rng.random(images)
    numbers[rng.random(images) < 0.1] = np.nan
    result = slices_of(np.arange(1, images + 1), right, {"word": words, "number": numbers})
    values = [each.p_value for each in result]
    assert values == sorted(values)
    members = [number for each in result if each.by == "number" for number in each.members.tolist()]
    assert len(members) == len(set(members)), "no image is in two parts"
    assert all(np.isfinite(numbers[number - 1]) for number in members)
    for each in result:
        assert FEWEST <= each.right.of == len(each.members) < images
        table = [
            [each.right.count, each.right.of - each.right.count],
            [int(right.sum()) - each.right.count, int((~right).sum()) - each.right.of + each.right.count],
        ]
        assert each.p_value >= stats.fisher_exact(table, "less").pvalue - 1e-9


def test_a_slice_of_hard_classes_is_not_blamed_for_them() -> None:
    rng = np.random.default_rng(3)
    classes = rng.integers(0, 3, 900)
    folder = np.where(rng.random(900) < np.array([0.1, 0.1, 0.8])[classes], "north", "south")
    right = rng.random(900) < np.array([0.97, 0.95, 0.6])[classes]
    blurred = rng.random(900)
    right &= ~((blurred < 0.25) & (rng.random(900) < 0.3))
    result = {each.name: each for each in slices_of(np.arange(900), right, {"folder": folder}, classes)}
    assert result["north"].p_value < 1e-6
    assert result["north"].p_within > 0.05
    soft = slices_of(np.arange(900), right, {"sharpness": blurred}, classes)[0]
    assert soft.p_value < 0.001
    assert soft.p_within < 0.001


@settings(max_examples=40)
@given(images=st.integers(16, 90), kinds=st.integers(1, 4), seed=st.integers(0, 999))
def test_within_classes_chance_is_that_of_dealing_again(images: int, kinds: int, seed: int) -> None:
    """With one class it is Fisher's; with more it is what many deals within classes give."""
    rng = np.random.default_rng(seed)
    right, words = rng.random(images) < 0.7, np.where(rng.random(images) < 0.4, "a", "b")
    (alone, *_) = [*slices_of(np.arange(images), right, {"word": words}), None]
    if alone is None:
        return
    assert alone.p_within == pytest.approx(alone.p_value)
    classes = rng.integers(0, kinds, images)
    place = words == alone.name
    deals, low = 400, 0
    for _ in range(deals):
        dealt = right.copy()
        for label in range(kinds):
            own = np.flatnonzero(classes == label)
            dealt[own] = rng.permutation(right[own])
        low += dealt[place].sum() <= right[place].sum()
    assert low / deals == pytest.approx(_chance_within(right, place, classes), abs=0.12)


def test_the_correction_is_holm_s() -> None:
    """Worked out by hand; four times each would be 0.04, 0.08, 0.12, 0.02."""
    assert _holm(np.array([0.01, 0.02, 0.03, 0.005])) == pytest.approx([0.03, 0.04, 0.04, 0.02])
    assert _holm(np.array([0.5, 0.9])) == pytest.approx([1.0, 1.0])
