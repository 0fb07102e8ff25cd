"""Figures that stand in sentences and on chips, by known answers."""

from __future__ import annotations

import numpy as np
import pytest

from attentive_lens.explaining.activity import BINS, Activity
from attentive_lens.explaining.causes.measures import MEASURES
from attentive_lens.explaining.figures import Gain


def gain(value: float, random: float, reach: float) -> Gain:
    return Gain(0.0, value, random, 0.1, random, {"edges": 0.2}, reach, True)


def test_a_gain_is_told_as_a_part_of_what_lies_between_random_maps_and_the_best_order() -> None:
    assert gain(3.0, 1.0, 5.0).share == pytest.approx(0.5)
    assert gain(5.0, 1.0, 5.0).share == 1.0
    assert gain(9.0, 1.0, 5.0).share == 1.0, "never more than all"
    assert gain(1.0, 1.0, 5.0).share == 0.0
    assert gain(2.0, -2.0, 6.0).part(0.0) == pytest.approx(0.25)
    assert gain(3.0, 5.0, 5.0).share == 0.0, "where nothing can be reached"


@pytest.mark.parametrize("side", [32, 64, 128])
def test_a_blur_s_strength_is_told_in_pixels_of_the_image_it_was_done_to(side: int) -> None:
    measure = MEASURES["focus"]
    random = np.random.default_rng(side)
    sharp = np.kron(random.integers(0, 255, (4, side // 4, side // 4, 3)), np.ones((1, 4, 4, 1))).astype(np.uint8)
    values = measure.values(sharp, np.full((4, 2), side))
    blurred, sigma = measure.imitated(sharp, values * 0.5)
    assert np.median(measure.values(blurred, np.full((4, 2), side))) <= np.median(values) * 0.5 * 1.05
    again, twice = measure.imitated(sharp, values * 0.25)
    assert 0 < sigma < twice < side / 4
    assert np.abs(again.astype(int) - sharp).mean() > np.abs(blurred.astype(int) - sharp).mean()


def test_a_picture_enlarged_from_fewer_pixels_is_blurred_by_half_of_what_one_of_them_takes() -> None:
    measure = MEASURES["file size"]
    pixels = np.random.default_rng(0).integers(0, 255, (3, 48, 48, 3)).astype(np.uint8)
    for size in (24, 12):
        enlarged, strength = measure.imitated(pixels, np.full(3, float(size)))
        assert strength == pytest.approx(0.5 * 48 / size)
        assert np.abs(np.diff(enlarged.astype(int), axis=2)).mean() < np.abs(np.diff(pixels.astype(int), axis=2)).mean()
    same, none = measure.imitated(pixels, np.full(3, 90.0))
    assert np.array_equal(same, pixels)
    assert none == pytest.approx(0.5)


def test_one_that_is_not_square_is_enlarged_from_as_many_pixels_along_both_sides() -> None:
    pixels = np.random.default_rng(0).integers(0, 255, (2, 16, 64, 3)).astype(np.uint8)
    enlarged, strength = MEASURES["file size"].imitated(pixels, np.full(2, 8.0))
    assert strength == pytest.approx(0.5 * 16 / 8)
    down, across = (np.abs(np.diff(enlarged.astype(int), axis=axis)).mean() for axis in (1, 2))
    assert down == pytest.approx(across, rel=0.25)


@pytest.mark.parametrize("factor", [0.5, 0.8, 1.1])
def test_contrast_is_taken_and_given_about_the_image_s_own_mean(factor: float) -> None:
    measure = MEASURES["contrast"]
    pixels = np.random.default_rng(1).integers(60, 180, (3, 16, 16, 3)).astype(np.uint8)
    sizes = np.full((3, 2), 16)
    before = measure.values(pixels, sizes)
    changed, strength = measure.imitated(pixels, before * factor)
    assert strength == pytest.approx(factor, rel=0.02)
    assert measure.values(changed, sizes) == pytest.approx(before * factor, rel=0.05)
    assert changed.mean(axis=(1, 2, 3)) == pytest.approx(pixels.mean(axis=(1, 2, 3)), abs=1.0)


def test_activity_keeps_the_bins_of_what_came_first_and_counts_all() -> None:
    activity = Activity(2)
    first = np.linspace(0, 4, 40, dtype=np.float32).reshape(10, 4)
    activity.add(first, np.array([0] * 10))
    edges = activity.edges.copy()
    activity.add(first * 10, np.array([1] * 10))
    assert np.array_equal(activity.edges, edges)
    assert activity.counts.sum() == 80
    assert len(activity.counts) == BINS
    assert activity.counts[-1] >= 30, "what lies beyond the last bin is in it"
    assert activity.images.tolist() == [10, 10]
    maps = Activity(1)
    maps.add(np.ones((3, 2, 2, 5), np.float32), np.zeros(3, np.int64))
    assert maps.counts.sum() == 3 * 2 * 2 * 5
