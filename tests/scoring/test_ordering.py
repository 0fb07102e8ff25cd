"""Orders of classes, gaps between sets, and what the formulas say elsewhere."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from attentive_lens.scoring import ordering
from attentive_lens.scoring.gaps import difference, gaps_in_words, small_in_words
from attentive_lens.scoring.ordering import ORDERS, ordered
from attentive_lens.scoring.scores import Scores, scored


def of_so_many(right: int, of: int, on: str = "test") -> Scores:
    predicted = np.array([0] * right + [1] * (of - right))
    sure = np.full((of, 2), 0.5)
    return scored(on, ["a", "b"], range(of), np.zeros(of, np.int64), predicted, sure, np.ones(of), "x")


def chain(classes: int, seed: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Classes that are confused with their neighbours in a hidden row alone, and that row."""
    hidden = np.random.default_rng(seed).permutation(classes)
    counts = np.diag(np.full(classes, 50))
    for one, other in pairwise(hidden.tolist()):
        counts[one, other] += 6
        counts[other, one] += 4
    return counts, hidden


@settings(max_examples=30, deadline=None)
@given(st.integers(1, 12), st.integers(0, 99), st.sampled_from(ORDERS))
def test_every_order_holds_every_class_once(classes: int, seed: int, order: str) -> None:
    counts = np.random.default_rng(seed).integers(0, 4, (classes, classes))
    names = tuple(f"class {classes - k}" for k in range(classes))
    assert sorted(ordered(counts, names, order).tolist()) == list(range(classes))


def test_known_orders() -> None:
    counts = np.array([[5, 0, 1], [2, 1, 0], [0, 3, 9]])
    names = ("b", "C", "a")
    assert ordered(counts, names, "by name").tolist() == [2, 0, 1]
    assert ordered(counts, names, "by size").tolist() == [2, 0, 1]
    assert ordered(counts, names, "most confused first").tolist() == [1, 2, 0]
    with pytest.raises(ValueError, match="no such order"):
        ordered(counts, names, "by colour")


@pytest.mark.parametrize("dense", [400, 3])
@pytest.mark.parametrize("seed", range(4))
def test_a_hidden_row_of_similar_classes_is_found(seed: int, dense: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ordering, "DENSE", dense)
    counts, hidden = chain(20, seed)
    result = ordered(counts, tuple(map(str, range(20))), "similar together").tolist()
    assert result in (hidden.tolist(), hidden[::-1].tolist())


def test_parts_that_are_never_confused_stand_by_themselves() -> None:
    counts = np.diag(np.full(9, 5))
    for one, other in ((0, 4), (4, 8), (8, 2), (1, 7)):
        counts[one, other] = 3
    result = ordered(counts, tuple("abcdefghi"), "similar together").tolist()
    assert result[:4] in ([0, 4, 8, 2], [2, 8, 4, 0])
    assert result[4:6] == [1, 7]
    assert result[6:] == [3, 5, 6]


def test_the_difference_of_two_sets_is_that_of_the_paper() -> None:
    """Newcombe 1998, table II: 56 of 70 against 48 of 80, method 10."""
    gap, low, high = difference(of_so_many(56, 70), of_so_many(48, 80))
    assert (gap, low, high) == (pytest.approx(0.2), pytest.approx(0.0524, abs=2e-4), pytest.approx(0.3339, abs=2e-4))


@given(st.integers(1, 60), st.integers(0, 60), st.integers(1, 60), st.integers(0, 60))
def test_laws_of_the_difference(of: int, right: int, other_of: int, other_right: int) -> None:
    one, other = of_so_many(min(right, of), of), of_so_many(min(other_right, other_of), other_of)
    gap, low, high = difference(one, other)
    assert -1 - 1e-9 <= low <= gap + 1e-9
    assert gap - 1e-9 <= high <= 1 + 1e-9
    back = difference(other, one)
    assert back == (pytest.approx(-gap), pytest.approx(-high), pytest.approx(-low))


def test_gaps_and_small_sets_are_named() -> None:
    sets = {"training": of_so_many(980, 1000), "validation": of_so_many(800, 1000), "test": of_so_many(21, 25)}
    first, second = gaps_in_words(sets)
    assert first.startswith("Validation falls 18.0 points")
    assert "behind training" in first
    assert "no more than by chance" in second
    assert "test (25 images" in small_in_words(sets)
    assert small_in_words({"training": sets["training"]}) == ""
    easier = gaps_in_words({"validation": of_so_many(500, 1000), "test": of_so_many(900, 1000)})
    assert "ahead of validation" in easier[0]
