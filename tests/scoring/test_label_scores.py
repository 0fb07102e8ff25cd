"""Scores of several labels against an independent library, and the tables of two labels by counting."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sklearn.metrics import f1_score, hamming_loss

from attentive_lens.core.records import from_plain, to_plain
from attentive_lens.scoring.labels import LabelAnswers, LabelScores, label_scores


def answers(seed: int, n: int, k: int) -> LabelAnswers:
    random = np.random.default_rng(seed)
    there = (random.random((n, k)) < 0.4).astype(np.uint8)
    probabilities = np.clip(0.3 * there + 0.7 * random.random((n, k)), 0, 1).astype(np.float32)
    names = tuple("abcdef"[:k])
    return LabelAnswers("test", names, np.arange(n) + 11, there, probabilities, random.random(n).astype(np.float32))


@given(st.integers(0, 2**30), st.integers(1, 30), st.integers(2, 5))
def test_figures_are_what_others_have(seed: int, n: int, k: int) -> None:
    own = answers(seed, n, k)
    thresholds = tuple(np.random.default_rng(seed).random(k).tolist())
    scores = label_scores(3, own, thresholds, ("F1",) * k)
    there = own.there.astype(bool)
    said = own.probabilities > np.array(thresholds, np.float32)
    assert scores.said.astype(bool).tolist() == said.tolist()
    assert scores.label_accuracy.value == pytest.approx(1 - hamming_loss(there, said))
    assert scores.exact_match.value == pytest.approx((there == said).all(axis=1).mean())
    assert scores.nothing_said.value == pytest.approx(1 - there.mean())
    if (there | said).any():
        assert scores.micro_f1 == pytest.approx(f1_score(there, said, average="micro"))
    for column, each in enumerate(scores.by_label):
        has, on = there[:, column], said[:, column]
        assert set(each.missed) == set((own.numbers[has & ~on]).tolist())
        assert set(each.false) == set((own.numbers[on & ~has]).tolist())
        if has.any() or on.any():
            assert each.f1 == pytest.approx(f1_score(has, on))
        surest = [own.probabilities[number - 11, column] for number in each.false]
        assert surest == sorted(surest, reverse=True)
        weakest = [own.probabilities[number - 11, column] for number in each.missed]
        assert weakest == sorted(weakest)
    for a in range(k):
        for b in range(k):
            assert scores.together[a][b] == (there[:, a] & there[:, b]).sum()
            assert scores.said_together[a][b] == (said[:, a] & said[:, b]).sum()
            assert scores.exchanged[a][b] == (there[:, a] & ~said[:, a] & said[:, b] & ~there[:, b]).sum()
    assert set(scores.wrong) == set(own.numbers[(there != said).any(axis=1)].tolist())


def test_it_travels_and_names_what_an_image_has() -> None:
    scores = label_scores(3, answers(1, 20, 4), (0.5,) * 4, ("F1",) * 4)
    arrays: list[np.ndarray] = []
    again = from_plain(LabelScores, to_plain(scores, arrays), arrays)
    assert again.by_label == scores.by_label and again.places == scores.places
    assert scores.names(np.array([1, 0, 0, 1], np.uint8)) == "a; d"
    assert scores.names(np.zeros(4, np.uint8)) == "no label"
    mistakes = [(scores.there != scores.said).sum(axis=1)[scores.places[number]] for number in scores.wrong]
    assert mistakes == sorted(mistakes, reverse=True)
