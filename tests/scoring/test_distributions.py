"""Distances of distributions against closed forms, precision and recall against a count by hand."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import linalg

from attentive_lens.scoring.distributions import covered, frechet, nearest
from attentive_lens.scoring.drawings import Looks, compared, looks_of


def test_the_frechet_distance_of_two_normal_clouds_is_that_of_their_moments() -> None:
    random = np.random.default_rng(0)
    mix, shift = random.standard_normal((5, 5)), np.arange(5) / 4
    points = random.standard_normal((200_000, 5))
    others = random.standard_normal((200_000, 5)) @ mix + shift
    covariance = mix.T @ mix
    known = shift @ shift + np.trace(np.eye(5) + covariance - 2 * linalg.sqrtm(covariance).real)
    assert frechet(points, others) == pytest.approx(known, rel=0.01)
    assert frechet(points, others) == pytest.approx(frechet(others, points), rel=1e-9)
    assert frechet(points, points) == pytest.approx(0, abs=1e-9)
    assert frechet(points, points + shift) == pytest.approx(shift @ shift, rel=1e-9)
    assert frechet(points, 3 * points) == pytest.approx(
        4 * np.trace(np.cov(points.T)) + 4 * (points.mean(0) ** 2).sum()
    )


def test_few_points_in_many_dimensions_have_a_distance_that_is_a_number() -> None:
    random = np.random.default_rng(1)
    distance = frechet(random.standard_normal((4, 30)).astype(np.float32), random.standard_normal((6, 30)))
    assert np.isfinite(distance)
    assert distance > 1
    assert frechet(np.zeros((3, 2)), np.zeros((3, 2))) == 0
    assert frechet(np.zeros((3, 1)), np.ones((3, 1))) == 1


def test_the_nearest_are_those_that_a_plain_count_finds() -> None:
    random = np.random.default_rng(2)
    points, others = random.standard_normal((700, 3)), random.standard_normal((40, 3))
    gaps = np.linalg.norm(points[:, None] - others, axis=2)
    places, distances = nearest(points, others, 3)
    np.testing.assert_array_equal(places, np.argsort(gaps, axis=1)[:, :3])
    np.testing.assert_allclose(distances, np.sort(gaps, axis=1)[:, :3], atol=1e-9)


def test_what_lies_within_surroundings_is_counted() -> None:
    line = np.arange(10.0)[:, None]  # each reaches as far as its second nearest: 1 inside, 2 at the ends
    assert covered(np.array([[4.5], [-1.9], [-2.1], [11.0], [20.0]]), line, neighbours=2) == pytest.approx(3 / 5)
    assert covered(line, line) == 1
    random = np.random.default_rng(3)
    cloud = random.standard_normal((600, 4))
    assert covered(random.standard_normal((600, 4)), cloud) > 0.8
    assert covered(random.standard_normal((600, 4)) + 30, cloud) == 0
    one = np.repeat(cloud[:1], 600, axis=0)  # drawings that are all one: precise, and of no recall
    assert covered(one, cloud) == 1
    assert covered(cloud, one) < 0.01


def test_distances_of_pairs_limits_and_grids_are_told_of_images() -> None:
    random = np.random.default_rng(4)
    images = random.random((60, 8, 8, 3)).astype(np.float32)
    looks = looks_of(images)
    assert looks.distance == pytest.approx(np.sqrt(1 / 6), rel=0.05)
    assert looks.at_limit == pytest.approx(0.02, abs=0.01)
    assert looks.grid < 0.05
    labels = np.arange(60) % 2
    apart = images * 0.1 + labels[:, None, None, None]
    assert looks_of(apart).distance > 5 * looks_of(apart, labels).distance
    twice = np.repeat(images[:30], 2, axis=0)  # two alike of each of many classes
    assert looks_of(twice, np.repeat(np.arange(30), 2)).distance == 0
    assert looks_of(twice).distance > 0.1
    assert looks_of(np.round(images)).at_limit == 1
    squares = np.repeat(np.repeat(random.random((60, 4, 4, 3)), 2, axis=1), 2, axis=2).astype(np.float32)
    assert looks_of(squares).grid == pytest.approx(1)
    stripes = np.repeat(random.random((60, 8, 4, 3)), 2, axis=2).astype(np.float32)
    assert looks_of(stripes).grid == pytest.approx(1)
    assert looks_of(images[:1]) == looks_of(images[:0]) == Looks(0, 0, 0)
    one = looks_of(np.full((5, 8, 8, 3), 0.5, np.float32))
    assert compared(one, looks) == {"variety": 0.0, "at_limit": 0.0, "grid": 0.0}
    assert compared(looks, looks) == {"variety": 1.0, "at_limit": 0.0, "grid": 0.0}
    assert compared(looks, one)["variety"] == 0
