from __future__ import annotations

import json
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from attentive_lens.core.records import from_plain, to_plain, without_arrays
from attentive_lens.scoring.scores import Scores, scored


def test_scores_of_four_known_answers() -> None:
    probabilities = np.array([[0.7, 0.3], [0.1, 0.9], [0.2, 0.8], [0.6, 0.4]])
    scores = scored("test", ["a", "b"], [11, 12, 13, 14], np.array([0, 0, 1, 0]), probabilities.argmax(axis=1),
                   probabilities, np.array([1.0, 3.0, 2.0, 2.0]), "squared error")  # fmt: skip
    assert scores.accuracy == 0.75
    assert scores.confusion.tolist() == [[2, 1], [0, 1]]
    assert scores.per_class == (pytest.approx(2 / 3), 1.0)
    assert (scores.loss, scores.loss_function) == (2.0, "squared error")
    assert [(a.image, a.predicted, a.true, a.probability) for a in scores.wrong] == [(12, 1, 0, pytest.approx(0.9))]


def test_a_class_without_images_has_no_accuracy() -> None:
    scores = scored(
        "test", ["a", "b", "c"], [1], np.array([1]), np.array([1]), np.array([[0.2, 0.5, 0.3]]), np.ones(1), "x"
    )
    assert scores.per_class == (None, 1.0, None)


@given(st.integers(1, 40), st.integers(2, 6), st.integers(0, 999))
def test_every_image_stands_once_in_the_matrix_and_json_keeps_all(n: int, classes: int, seed: int) -> None:
    random = np.random.default_rng(seed)
    probabilities = random.dirichlet(np.ones(classes), n)
    true = random.integers(0, classes, n)
    predicted, names = probabilities.argmax(axis=1), [str(k) for k in range(classes)]
    scores = scored("validation", names, range(n), true, predicted, probabilities, np.ones(n), "x")
    matrix = np.array(scores.confusion)
    assert matrix.sum() == n == scores.images
    assert np.array_equal(matrix.sum(axis=1), np.bincount(true, minlength=classes))
    assert scores.accuracy == pytest.approx(np.trace(matrix) / n)
    assert len(scores.wrong) == n - np.trace(matrix)
    arrays: list[NDArray[Any]] = []
    plain = json.loads(json.dumps(to_plain(scores, arrays)))
    again = from_plain(Scores, plain, arrays)
    assert again == scores
    assert np.array_equal(again.probabilities, probabilities.astype(np.float32))
    assert "probabilities" not in without_arrays(scores)
