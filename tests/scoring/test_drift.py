"""How a day differs from held-out images: known answers, chance, another mix of classes, a day in parts."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import ks_2samp

from attentive_lens.core.random import random_generator
from attentive_lens.scoring.drift import BINS, BY_CHANCE, FEWEST, LEAST, DriftCounts, DriftReference, bins_of, drift

MEASURES, CLASSES = ("brightness", "focus", "feature 1"), ("round", "long")
WORDS = (("are darker", "are lighter"), ("are softer", ""), ("look otherwise", "look otherwise"))


def images(count: int, seed: int, long: float = 0.5, moved: float = 0.0) -> tuple[np.ndarray, np.ndarray]:
    """Measures and classes said: long ones are lighter, by two deviations."""
    random = random_generator(seed, "images of a day")
    predicted = (random.random(count) < long).astype(np.int64)
    values = random.normal(size=(count, len(MEASURES)))
    values[:, 0] += 2.0 * predicted + moved
    return values, predicted


def reference(count: int = 400) -> DriftReference:
    return DriftReference.of(MEASURES, CLASSES, *images(count, 0), WORDS)


def counted(of: DriftReference, values: np.ndarray, predicted: np.ndarray, unlike: int = 0) -> DriftCounts:
    counts = DriftCounts.empty(of)
    counts.add(of, values, predicted, unlike)
    return counts


def test_days_like_any_other_are_not_told_and_those_that_are_moved_are() -> None:
    known = reference()
    days = 200
    for long in (0.5, 0.1, 1.0):
        alike = [drift("", counted(known, *images(80, seed, long)), known) for seed in range(1, days + 1)]
        assert sum(day.differs for day in alike) <= 3 * BY_CHANCE * days
    for moved, words in ((-1.2, "are darker"), (1.2, "are lighter")):
        differing = [drift("", counted(known, *images(80, seed, 0.5, moved)), known) for seed in range(1, 51)]
        assert all(day.differs and day.shifts[0].measure == "brightness" for day in differing)
        assert all(np.sign(day.shifts[0].deviations) == np.sign(moved) for day in differing)
        assert all(words in day.sentence and "brightness" in day.sentence for day in differing)
        assert np.mean([day.shifts[0].deviations for day in differing]) == pytest.approx(moved / known.std[0], abs=0.1)


def test_another_mix_of_classes_is_told_as_such_and_not_as_other_images() -> None:
    known = reference()
    day = drift("monday", counted(known, *images(300, 5, long=1.0)), known)
    assert day.mix == pytest.approx(1 - (known.predicted == 1).mean())
    assert (day.mix_differs, day.differs) == (True, False)
    assert "Classes come in another mix" in day.sentence
    assert "most are long" in day.sentence
    both = drift("", counted(known, *images(300, 5, long=1.0, moved=1.5)), known)
    assert (both.mix_differs, both.differs) == (True, True)
    assert not drift("", counted(known, *images(300, 6)), known).mix_differs


def test_the_distance_is_that_of_the_two_distributions() -> None:
    known = DriftReference.of(("one",), ("only",), np.arange(200.0)[:, None], np.zeros(200, np.int64))
    for shift in (0.0, 20.0, 60.0, 500.0):
        values = np.arange(200.0)[:, None] + shift
        day = drift("", counted(known, values, np.zeros(200, np.int64)), known)
        exact = ks_2samp(known.values[:, 0], values[:, 0]).statistic
        assert exact - 1 / BINS <= day.shifts[0].distance <= exact + 1e-9
    assert drift("", counted(known, known.values, known.predicted), known).shifts[0].distance == pytest.approx(0)


def test_what_so_few_come_to_by_chance_is_what_the_two_sizes_give() -> None:
    known = reference(400)
    for count in (FEWEST, 100, 1000):
        values, predicted = images(count, 3)
        day = drift("", counted(known, values, predicted), known)
        weights = known.weighted_as(np.bincount(predicted, minlength=2))
        worth = weights.sum() ** 2 / (weights**2).sum()
        limit = np.sqrt(-np.log(BY_CHANCE / len(MEASURES) / 2) / 2 * (1 / count + 1 / worth))
        assert day.shifts[0].by_chance == pytest.approx(min(1.0, limit))
        for shift in day.shifts:
            assert shift.differs == (shift.distance > max(LEAST, limit))


def test_too_few_tell_nothing_and_none_at_all_do_no_harm() -> None:
    known = reference()
    few = drift("", counted(known, *images(FEWEST - 1, 1, moved=9.0)), known)
    assert (few.differs, few.mix_differs) == (False, False)
    assert "too few" in few.sentence
    assert drift("", counted(known, *images(FEWEST, 1, moved=9.0)), known).differs
    none = drift("", DriftCounts.empty(known), known)
    assert (none.images, none.differs, none.unlike) == (0, False, 0.0)


def test_one_feature_stands_for_all_and_named_measures_come_first() -> None:
    names = ("feature 1", "feature 2", "brightness")
    values, predicted = images(300, 0)
    known = DriftReference.of(names, CLASSES, values, predicted, (*(("other", "other"),) * 2, ("darker", "lighter")))
    day = drift("", counted(known, values + np.array([9.0, 2.5, 1.5]), predicted, 30), known)
    assert [shift.measure for shift in day.shifts][:2] == ["feature 1", "feature 2"]
    assert "feature 2" not in day.sentence
    assert day.sentence.index("lighter") < day.sentence.index("feature 1")
    assert day.unlike == pytest.approx(0.1)
    assert day.unlike_interval[0] < 0.1 < day.unlike_interval[1]


@given(st.integers(1, 60), st.lists(st.integers(0, 60), max_size=4), st.integers(0, 10_000))
def test_a_day_in_parts_is_the_day_as_a_whole(count: int, cuts: list[int], seed: int) -> None:
    known = reference(60)
    values, predicted = images(count, seed)
    whole, parts = counted(known, values, predicted, count // 3), DriftCounts.empty(known)
    edges = [0, *sorted(min(cut, count) for cut in cuts), count]
    for first, last in itertools.pairwise(edges):
        parts.add(known, values[first:last], predicted[first:last], (last // 3) - (first // 3))
    assert (parts.images, parts.unlike) == (whole.images, whole.unlike)
    assert np.array_equal(parts.bins, whole.bins)
    assert np.allclose(parts.sums, whole.sums)
    assert np.array_equal(parts.predicted, whole.predicted)
    assert parts.bins.sum() == count * len(MEASURES)


@given(st.lists(st.floats(-5, 5), min_size=1, max_size=50))
def test_bins_hold_alike_many_held_out_images(values: list[float]) -> None:
    known = reference()
    counts = np.bincount(known.bins[:, 0], minlength=BINS)
    assert counts.max() - counts.min() <= 2
    placed = bins_of(np.array(values)[:, None], known.edges[:1])[:, 0]
    assert placed.max() < BINS
    on_edges = bins_of(known.edges.T, known.edges)
    assert np.array_equal(on_edges[:, 0], np.arange(BINS - 1)), "a value on an edge lies below it"
    order = np.argsort(values)
    assert (np.diff(placed[order].astype(int)) >= 0).all()
