"""Measures against their formulas written out image by image."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.plan.measures import MEASURES
from attentive_lens.training.metrics import Metrics, measured


@st.composite
def answered(draw: st.DrawFn) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    classes, images, seed = draw(st.integers(2, 9)), draw(st.integers(1, 40)), draw(st.integers(0, 2**32 - 1))
    random = np.random.default_rng(seed)
    return random.random((images, classes)), random.random(images), random.integers(0, classes, images)


@given(answered())
def test_measures_are_those_of_their_formulas(case: tuple[np.ndarray, np.ndarray, np.ndarray]) -> None:
    scores, losses, labels = case
    metrics = measured(scores, losses, labels)
    predicted = scores.argmax(axis=1)
    assert metrics.figures.keys() == MEASURES.keys()
    assert metrics.right == sum(int(s == t) for s, t in zip(predicted, labels, strict=True))
    assert metrics.loss == pytest.approx(losses.mean())
    top = sum(int(t in np.argsort(-row)[:5]) for row, t in zip(scores, labels, strict=True)) / len(labels)
    assert metrics.more["top_5"] == pytest.approx(top)
    f1s, recalls = [], []
    for k in range(scores.shape[1]):
        both, true, answers = ((predicted == k) & (labels == k)).sum(), (labels == k).sum(), (predicted == k).sum()
        if true:
            recalls.append(both / true)
        if true or answers:
            precision, recall = both / max(1, answers), both / max(1, true)
            f1s.append(2 * precision * recall / (precision + recall) if both else 0.0)
    assert metrics.more["balanced_accuracy"] == pytest.approx(np.mean(recalls))
    assert metrics.more["macro_f1"] == pytest.approx(np.mean(f1s))


@given(answered())
def test_the_confusion_is_every_image_once_and_class_losses_make_up_the_loss(
    case: tuple[np.ndarray, np.ndarray, np.ndarray],
) -> None:
    scores, losses, labels = case
    metrics = measured(scores, losses, labels)
    assert metrics.by_class is not None
    cells = {(t, s): n for t, s, n in metrics.by_class.confusion}
    assert sum(cells.values()) == len(labels)
    assert all(n > 0 for n in cells.values())
    assert sum(n for (t, s), n in cells.items() if t == s) == metrics.right
    counts = np.bincount(labels, minlength=scores.shape[1])
    assert [loss is None for loss in metrics.by_class.losses] == [not n for n in counts]
    whole = sum(n * (loss or 0.0) for n, loss in zip(counts, metrics.by_class.losses, strict=True))
    assert whole == pytest.approx(losses.sum(), abs=1e-4)


def test_no_images_are_no_accuracy() -> None:
    assert Metrics(0.0, 0, 0).figures == {"accuracy": 0.0, "loss": 0.0}
    nothing = measured(np.zeros((0, 3)), np.zeros(0), np.zeros(0, np.int64))
    assert set(nothing.figures.values()) == {0.0}
