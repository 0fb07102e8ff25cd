"""Thresholds against trying every one, and what they are worth on images they were not chosen on."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.plan.labels import HALF
from attentive_lens.scoring.thresholds import (
    FEWEST,
    RULES,
    ThresholdRule,
    all_chosen,
    chosen,
    cost_of,
    f1_of,
    mean_known,
    on_other_images,
    precision_of,
    recall_of,
)


def gain(rule: ThresholdRule, said: np.ndarray, there: np.ndarray) -> float:
    """What a rule wants more of."""
    if rule.by == "F1":
        return f1_of(said[:, None], there[:, None])[0] or 0.0
    if rule.by == "cost":
        return -cost_of(said[:, None], there[:, None], rule)
    precision = precision_of(said, there) or 0.0
    return float((said & there).sum()) if said.any() and precision >= rule.precision else -1.0


@given(st.integers(0, 2**30), st.integers(12, 40), st.sampled_from([6, 10000]), st.floats(0.1, 8))
def test_none_would_be_better(seed: int, n: int, levels: int, missed: float) -> None:
    random = np.random.default_rng(seed)
    there = random.random(n) < 0.5
    probabilities = np.clip(random.integers(levels, size=n) / levels * 0.7 + 0.3 * there, 0, 1)
    for by in ("F1", "cost", "precision"):
        rule = ThresholdRule(by, precision=0.8, missed=missed)
        choice = chosen(probabilities, there, rule)
        if min(there.sum(), n - there.sum()) < FEWEST:
            assert choice.value == HALF and "a half" in choice.by
            continue
        every = [-0.1, *np.unique(probabilities), 1.0]
        best = max(gain(rule, probabilities > t, there) for t in every)
        if by == "precision" and best < 0:
            assert "is not reached" in choice.by
            reached = max(precision_of(probabilities > t, there) or 0 for t in every)
            assert precision_of(probabilities > choice.value, there) == pytest.approx(reached)
            continue
        assert gain(rule, probabilities > choice.value, there) == pytest.approx(best)
        assert choice.by == rule.words


def test_each_rule_on_a_known_case() -> None:
    probabilities = np.array([0.95, 0.9, 0.85, 0.8, 0.7, 0.6, 0.5, 0.4, 0.3, 0.2])
    there = np.array([1, 1, 1, 0, 1, 0, 1, 0, 0, 0], bool)
    assert chosen(probabilities, there, ThresholdRule("F1")).value == pytest.approx(0.45)
    assert chosen(probabilities, there, ThresholdRule("precision", precision=1.0)).value == pytest.approx(0.825)
    assert chosen(probabilities, there, ThresholdRule("precision", precision=0.8)).value == pytest.approx(0.65)
    assert chosen(probabilities, there, ThresholdRule("cost", missed=9)).value == pytest.approx(0.45)
    assert chosen(probabilities, there, ThresholdRule("cost", false=9)).value == pytest.approx(0.825)
    assert chosen(probabilities, there, ThresholdRule("fixed", value=0.3)).value == 0.3
    assert {replace(ThresholdRule(), by=by).words.split()[0] for by in RULES} == {"F1", "cost", "precision", "fixed"}


def test_what_is_told_of_other_images_is_no_better_than_chance_where_there_is_nothing_to_learn() -> None:
    """The opposite: chosen and judged on the same images noise looks good, on others it does not."""
    random = np.random.default_rng(7)
    there, noise = random.random((120, 8)) < 0.1, random.random((120, 8))
    rule = ThresholdRule("F1")
    values = np.array([each.value for each in all_chosen(noise, there, rule)])
    here = mean_known(f1_of(noise > values, there)) or 0
    elsewhere = mean_known(f1_of(on_other_images(noise, there, rule), there)) or 0
    always = mean_known(f1_of(np.ones_like(there), there)) or 0
    assert here > always + 0.03
    assert elsewhere < always + 0.03
    assert on_other_images(noise, there, ThresholdRule("fixed", value=0.4)).tolist() == (noise > 0.4).tolist()


def test_figures_of_nothing_are_none() -> None:
    none = np.zeros((4, 2), bool)
    assert precision_of(none, none) is recall_of(none, none) is mean_known(f1_of(none, none)) is None
    assert cost_of(none, ~none, ThresholdRule(missed=2, false=5)) == 4
    assert cost_of(~none, none, ThresholdRule(missed=2, false=5)) == 10
