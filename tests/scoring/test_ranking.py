"""Ranking measures against an independent library, equal scores and all."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sklearn.metrics import (
    average_precision_score,
    coverage_error,
    label_ranking_average_precision_score,
    label_ranking_loss,
    roc_auc_score,
)

from attentive_lens.scoring.ranking import area_under_curve, average_precision, label_ranking, mean_average_precision


def drawn(seed: int, n: int, k: int, levels: int) -> tuple[np.ndarray, np.ndarray]:
    random = np.random.default_rng(seed)
    return random.integers(levels, size=(n, k)) / levels, random.random((n, k)) < 0.4


@given(st.integers(0, 2**30), st.integers(1, 30), st.integers(2, 6), st.sampled_from([2, 5, 1000]))
def test_they_are_what_others_have(seed: int, n: int, k: int, levels: int) -> None:
    scores, there = drawn(seed, n, k, levels)
    for column in range(k):
        own, has = scores[:, column], there[:, column]
        if has.any():
            assert average_precision(own, has) == pytest.approx(average_precision_score(has, own))
        else:
            assert average_precision(own, has) is None
        if has.any() and not has.all():
            assert area_under_curve(own, has) == pytest.approx(roc_auc_score(has, own))
        else:
            assert area_under_curve(own, has) is None
    mixed = there.any(axis=1) & ~there.all(axis=1)
    precision, coverage, loss = label_ranking(scores, there)
    if not mixed.any():
        assert precision is coverage is loss is None
        return
    scores, there = scores[mixed], there[mixed]
    assert precision == pytest.approx(label_ranking_average_precision_score(there, scores))
    assert coverage == pytest.approx(coverage_error(there, scores))
    apart = [
        (own[has][:, None] < own[~has]).mean() + 0.5 * (own[has][:, None] == own[~has]).mean()
        for own, has in zip(scores, there, strict=True)
    ]
    assert loss == pytest.approx(np.mean(apart))
    if all(len(np.unique(row)) == k for row in scores):
        assert loss == pytest.approx(label_ranking_loss(there, scores))


def test_what_is_perfect_and_what_is_chance() -> None:
    random = np.random.default_rng(4)
    there = random.random((4000, 3)) < 0.25
    assert mean_average_precision(there + random.random((4000, 3)) / 2, there) == 1
    assert mean_average_precision(random.random((4000, 3)), there) == pytest.approx(0.25, abs=0.03)
    assert mean_average_precision(np.zeros((5, 2)), np.zeros((5, 2), bool)) == 0
    own = there[there.any(axis=1) & ~there.all(axis=1)].sum(axis=1).mean()
    assert label_ranking(there + 0.0, there) == pytest.approx((1.0, own, 0))
