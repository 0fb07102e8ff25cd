"""Images laid out: t-SNE against its own divergence, its promises, and pictures that do not overlap."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.map_layout import by_interest, disc, inside, into_unit, shown_apart, stamped
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.explaining.distances import squared_distances, squeezed
from attentive_lens.explaining.embedding import STEPS, Likelihoods, embedded, gradient, likelihoods_of


def dense(of: Likelihoods) -> NDArray[np.float64]:
    """The same as a table N×N."""
    table = np.zeros((len(of.starts) - 1,) * 2)
    for row in range(len(table)):
        part = slice(of.starts[row], of.starts[row + 1])
        table[row, of.others[part]] = of.shares[part]
    return table


def groups(each: int, apart: float = 6.0, seed: int = 0) -> NDArray[np.float32]:
    random = np.random.default_rng(seed)
    middles = random.standard_normal((3, 8)) * apart
    return (np.repeat(middles, each, axis=0) + random.standard_normal((3 * each, 8))).astype(np.float32)


def test_likelihoods_are_those_of_a_slow_search() -> None:
    features, perplexity = groups(20), 7.0
    result = dense(likelihoods_of(features, perplexity))
    assert result == pytest.approx(result.T)
    assert result.sum() == pytest.approx(1, abs=1e-5)
    gaps = squared_distances(features.astype(np.float64), features.astype(np.float64))
    np.fill_diagonal(gaps, np.inf)
    one_way = np.zeros_like(gaps)
    for row, distances in enumerate(gaps):
        nearest = np.argsort(distances)[:21]
        low, high = 0.0, 1e3
        for _ in range(100):
            sharp = (low + high) / 2
            weights = np.exp(-(distances[nearest] - distances[nearest[0]]) * sharp)
            shares = weights / weights.sum()
            entropy = -(shares * np.log(np.maximum(shares, 1e-300))).sum()
            low, high = (sharp, high) if entropy > np.log(perplexity) else (low, sharp)
        one_way[row, nearest] = shares
    assert result == pytest.approx((one_way + one_way.T) / (2 * len(features)), abs=1e-6)


@pytest.mark.parametrize("stress", [1.0, 12.0])
def test_the_gradient_is_that_of_the_divergence(stress: float) -> None:
    """By differences, over more images than one piece holds; stressed, the part that pulls counts so many times."""
    random = np.random.default_rng(4)
    features, places = random.standard_normal((700, 3)).astype(np.float32), random.standard_normal((700, 2))
    likelihoods = likelihoods_of(features, 20)
    wanted = dense(likelihoods)

    def divergence(at: NDArray[np.float64]) -> float:
        near = 1 / (1 + squared_distances(at, at))
        np.fill_diagonal(near, 0)
        return float(-stress * (wanted * np.log(np.where(near > 0, near, 1))).sum() + np.log(near.sum()))

    grad = gradient(places.astype(np.float32), likelihoods, stress)
    for row, column in ((0, 0), (350, 1), (699, 0)):
        step = np.zeros_like(places)
        step[row, column] = 1e-4
        slope = (divergence(places + step) - divergence(places - step)) / 2e-4
        assert grad[row, column] == pytest.approx(slope, rel=0.02, abs=1e-6)


def test_near_images_stay_near_and_the_same_seed_gives_the_same_places() -> None:
    features, labels = groups(100), np.repeat(np.arange(3), 100)
    with ThreadPool(2) as pool:
        laid = finish(embedded(features, 1, thread_pool=pool))
    assert np.array_equal(laid, finish(embedded(features, 1))), "whatever the number of threads"
    assert not np.array_equal(laid, finish(embedded(features, 2)))
    own = squared_distances(laid, laid) + np.eye(len(laid)) * 1e9
    assert (labels[own.argmin(axis=1)] == labels).mean() > 0.99
    apart = np.linalg.norm(laid[:, None] - laid[None], axis=2)
    same = labels[:, None] == labels[None]
    assert apart[same].mean() < apart[~same].mean() / 2


def test_it_can_be_seen_while_it_works() -> None:
    summary = list(embedded(groups(20)))
    assert summary[0].so_far is None
    seen = [each.so_far for each in summary[1:]]
    assert all(isinstance(each, np.ndarray) and each.shape == (60, 2) for each in seen)
    assert [each.done for each in summary] == sorted({each.done for each in summary})
    assert {each.total for each in summary} == {STEPS}


@pytest.mark.parametrize("count", [1, 2, 3, 4, 5, 9])
def test_few_or_equal_images_get_places_that_are_numbers(count: int) -> None:
    for features in (np.zeros((count, 6), np.float32), groups(3)[:count]):
        laid = finish(embedded(features))
        assert laid.shape == (count, 2)
        assert np.isfinite(laid).all()


@settings(max_examples=40)
@given(
    st.integers(1, 3), st.integers(1, 17), st.integers(1, 13), st.integers(1, 5), st.sampled_from([1, 4, 30, 100_000])
)
def test_outputs_are_averaged_over_squares(images: int, rows: int, columns: int, channels: int, most: int) -> None:
    outputs = np.random.default_rng(0).standard_normal((images, rows, columns, channels))
    rows_of = squeezed(outputs, most)
    side = max(1, int((most / channels) ** 0.5))
    assert rows_of.shape == (images, min(rows, side) * min(columns, side) * channels)
    if rows % min(rows, side) == columns % min(columns, side) == 0:  # squares of one size
        means = rows_of.reshape(images, -1, channels).mean(axis=1)
        assert means == pytest.approx(outputs.mean(axis=(1, 2)))
    if rows <= side and columns <= side:
        assert np.array_equal(rows_of, outputs.reshape(images, -1))


@settings(max_examples=40)
@given(st.integers(1, 300), st.floats(0.5, 80), st.integers(0, 99))
def test_pictures_never_overlap_and_none_that_had_room_is_left_out(count: int, side: float, seed: int) -> None:
    random = np.random.default_rng(seed)
    places, predicted = into_unit(random.standard_normal((count, 2))) * 500, random.integers(0, 3, count)
    order = by_interest(predicted != random.integers(0, 3, count))
    assert sorted(order) == list(range(count))
    shown = shown_apart(places, order, side)
    gaps = np.abs(places[shown][:, None] - places[shown][None]).max(axis=2) + np.eye(len(shown)) * 1e9
    assert (gaps >= side).all()
    for k in set(range(count)) - set(shown):
        assert (np.abs(places[shown] - places[k]).max(axis=1) < side).any()


@settings(max_examples=30)
@given(st.integers(1, 40), st.floats(1, 9), st.floats(0, 2), st.integers(0, 99))
def test_marks_are_those_drawn_one_by_one(count: int, diameter: float, ring: float, seed: int) -> None:
    random = np.random.default_rng(seed)
    points = random.uniform(-3, 23, (count, 2))
    colour = np.array([10, 200, 30, 240], np.uint8)
    stamp = disc(diameter, ring)
    drawn = stamped((20, 24), points, np.tile(colour, (count, 1)), stamp)
    half, wanted = len(stamp) // 2, np.zeros((20, 24))
    for x, y in np.floor(points).astype(int):
        if 0 <= x < 24 and 0 <= y < 20:
            for down in range(-half, half + 1):
                for right in range(-half, half + 1):
                    row, column = y + down, x + right
                    if 0 <= row < 20 and 0 <= column < 24:
                        wanted[row, column] = max(wanted[row, column], stamp[down + half, right + half])
    assert np.array_equal(drawn[:, :, 3], (wanted * 240).astype(np.uint8))
    assert (drawn[drawn[:, :, 3] > 0][:, :3] == colour[:3]).all()


@given(st.integers(0, 999))
def test_wrong_ones_claim_their_room_first(seed: int) -> None:
    random = np.random.default_rng(seed)
    predicted, true = random.integers(0, 2, 60), random.integers(0, 2, 60)
    wrong = [bool(predicted[k] != true[k]) for k in by_interest(predicted != true)]
    assert wrong == sorted(wrong, reverse=True)


@given(st.integers(3, 12), st.integers(0, 99))
def test_a_lasso_holds_what_a_ray_says(corners: int, seed: int) -> None:
    random = np.random.default_rng(seed)
    lasso, places = random.random((corners, 2)), random.random((50, 2))
    for place, within in zip(places, inside(lasso, places), strict=True):
        crossings = 0
        for k in range(corners):
            (u, v), (p, q) = lasso[k], lasso[(k + 1) % corners]
            crossings += min(v, q) <= place[1] < max(v, q) and u + (place[1] - v) / (q - v) * (p - u) > place[0]
        assert within == crossings % 2
