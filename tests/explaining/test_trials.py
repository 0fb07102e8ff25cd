"""A model that goes by a mark is told from one that goes by the thing."""

from __future__ import annotations

from typing import Any, cast

import numpy as np
import pytest

from attentive_lens.explaining.trials import CoverTrial, Trial, cover_tried, tried
from attentive_lens.predicting import Predictor

SPOT = (0.8, 0.2, 0.25)


class Judge:
    """Says 0 where a place is dark, else 1."""

    def __init__(self, rows: slice, columns: slice) -> None:
        self.place = (rows, columns)

    def prepare(self, pixels: np.ndarray) -> np.ndarray:
        return pixels.astype(np.float32)

    def scores(self, images: np.ndarray) -> np.ndarray:
        level = images[:, self.place[0], self.place[1]].mean(axis=(1, 2, 3))
        return np.stack([100 - level, level - 100], axis=1)

    def predicted(self, scores: np.ndarray) -> Any:
        return scores.argmax(axis=1)


def images(count: int, dark_corner: bool, dark_middle: bool) -> np.ndarray:
    pixels = np.random.default_rng(count).integers(170, 220, (count, 40, 40, 3)).astype(np.uint8)
    if dark_corner:
        pixels[:, 28:36, 4:12] = 20
    if dark_middle:
        pixels[:, 14:26, 14:26] = 20
    return pixels


CORNER, MIDDLE = (slice(28, 36), slice(4, 12)), (slice(14, 26), slice(14, 26))


@pytest.mark.parametrize(("place", "decides"), [(CORNER, True), (MIDDLE, False)])
def test_covering_and_pasting_tell_what_a_model_goes_by(place: tuple[slice, slice], decides: bool) -> None:
    judge = cast(Predictor, Judge(*place))
    truth = np.ones(30, np.int64)
    trial = tried(judge, images(40, True, True), images(30, False, False), truth, 0, SPOT)
    assert trial is not None
    assert trial.decides == decides
    expected = (1.0, 0.0, 1.0, 0.0) if decides else (0.0, 0.0, 0.0, 0.0)
    assert (trial.covered, trial.covered_elsewhere, trial.pasted, trial.pasted_elsewhere) == expected
    assert (trial.images, trial.others) == (40, 30)


@pytest.mark.parametrize("shape", [(20, 80), (80, 20)])
def test_a_place_is_told_in_parts_of_both_sides(shape: tuple[int, int]) -> None:
    rows, columns = (
        slice(round(at * side - side / 10), round(at * side + side / 10))
        for at, side in zip((0.8, 0.2), shape, strict=True)
    )
    judge = cast(Predictor, Judge(rows, columns))
    pixels = np.random.default_rng(4).integers(170, 220, (30, *shape, 3)).astype(np.uint8)
    marked = pixels.copy()
    marked[:, rows, columns] = 20
    trial = tried(judge, marked, pixels, np.ones(30, np.int64), 0, SPOT)
    assert trial is not None
    assert (trial.covered, trial.covered_elsewhere, trial.pasted, trial.pasted_elsewhere) == (1.0, 0.0, 1.0, 0.0)


def test_a_model_that_knows_too_few_of_them_tells_nothing() -> None:
    judge = cast(Predictor, Judge(*CORNER))
    assert tried(judge, images(40, False, True), images(30, False, False), np.ones(30, np.int64), 0, SPOT) is None
    assert tried(judge, images(40, True, True), images(30, True, False), np.ones(30, np.int64), 0, SPOT) is None


def test_a_place_decides_by_what_it_turns_beyond_its_mirror_image() -> None:
    assert Trial(0.5, 0.1, 0.0, 0.0, 9, 9).decides
    assert not Trial(0.5, 0.4, 0.3, 0.2, 9, 9).decides


def test_covering_a_mark_mends_mistakes_and_covering_a_thing_does_not() -> None:
    """Class 1 with a dark corner is said to be 0 by a model that goes by the corner."""
    judge = cast(Predictor, Judge(*CORNER))
    mistakes, right = images(40, True, False), images(30, True, False)
    trial = cover_tried(judge, mistakes, np.ones(40, np.int64), right, np.zeros(30, np.int64), SPOT)
    assert (trial.mended, trial.mended_elsewhere, trial.broken) == (1.0, 0.0, 1.0)
    assert trial.causes
    elsewhere = cover_tried(judge, mistakes, np.ones(40, np.int64), right[:0], np.zeros(0, np.int64), (0.2, 0.8, 0.25))
    assert (elsewhere.mended, elsewhere.broken) == (0.0, 0.0)
    assert not elsewhere.causes
    assert not CoverTrial(0.6, 0.5, 0.0).causes, "what the mirrored place mends as well is no cause"
