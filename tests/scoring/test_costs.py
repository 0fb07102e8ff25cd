"""Decisions of least expected cost: known answers, and never dearer by the probabilities they are taken from."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.scoring.costs import WITHHELD, Cost, CostTable, at_temperature

AB = ("a", "b")


def test_a_costly_mistake_is_made_less_often_and_an_unsure_answer_withheld() -> None:
    probabilities = np.array([[0.9, 0.1], [0.6, 0.4], [0.2, 0.8]], np.float32)
    even = CostTable(AB, np.array([[0.0, 1], [1, 0]]))
    assert even.least(probabilities).tolist() == [0, 0, 1]
    missed_b = CostTable(AB, np.array([[0.0, 1], [5, 0]]))
    assert missed_b.least(probabilities).tolist() == [0, 1, 1], "from 1/6 of b on, b costs less"
    withheld = CostTable((*AB, WITHHELD), np.array([[0.0, 1, 0.3], [1, 0, 0.3]]))
    assert withheld.least(probabilities).tolist() == [0, 2, 1]
    assert withheld.of(np.array([0, 1, 1]), np.array([0, 2, 0])).tolist() == [0, 0.3, 1]
    tie = CostTable(AB, np.zeros((2, 2)))
    assert tie.least(probabilities).tolist() == [0, 0, 0]


@given(st.integers(2, 6), st.integers(0, 2), st.integers(0, 10**6))
def test_no_other_decision_costs_less_in_expectation(classes: int, more: int, seed: int) -> None:
    random = np.random.default_rng(seed)
    table = CostTable(tuple("abcdefgh"[: classes + more]), random.normal(0, 3, (classes, classes + more)))
    probabilities = random.dirichlet(np.full(classes, 0.5), 20)
    least = table.least(probabilities)
    for k, row in enumerate(probabilities):
        expected = [sum(row[c] * table.costs[c, d] for c in range(classes)) for d in range(classes + more)]
        assert expected[least[k]] == pytest.approx(min(expected))
    even = CostTable(tuple("abcdef"[:classes]), 1 - np.eye(classes))
    assert np.array_equal(even.least(probabilities), probabilities.argmax(axis=1))


def test_a_temperature_is_that_of_the_scores_under_softmax() -> None:
    scores = np.random.default_rng(0).normal(0, 3, (8, 4))

    def softmax(values: np.ndarray) -> np.ndarray:
        powers = np.exp(values - values.max(axis=1, keepdims=True))
        return np.asarray(powers / powers.sum(axis=1, keepdims=True))

    assert at_temperature(softmax(scores), 2.5) == pytest.approx(softmax(scores / 2.5))
    assert at_temperature(softmax(scores), 1.0) == pytest.approx(softmax(scores))
    assert np.isfinite(at_temperature(np.array([[1.0, 0.0]]), 0.1)).all()


def test_a_mean_cost_has_an_interval_and_words() -> None:
    cost = Cost.of(np.array([0.0, 1, 1, 0, 5]), np.arange(5))
    assert cost.value == pytest.approx(1.4)
    assert cost.low is not None
    assert cost.high is not None
    assert cost.low < 0 < 1.4 < cost.high
    alone = Cost.of(np.array([2.0, 3]), np.zeros(2, np.int64))
    assert (alone.low, alone.high, alone.may_be_none, str(alone)) == (None, None, True, "2.5")
    assert not Cost(0.5, 0.25, 0.75).may_be_none
    assert str(Cost(0.5, 0.25, 0.75)) == "0.5 (0.25 to 0.75)"
