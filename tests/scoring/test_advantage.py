"""What is left of an early advantage: gaps that close go on closing, others stay, and noise is no advantage."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from attentive_lens.scoring.advantage import FARTHEST, Advantage, advantage


def ahead(early: NDArray[np.float64], late: NDArray[np.float64], doublings: float, trainings: int) -> Advantage:
    """Of a way beside one that misses nothing any more."""
    return advantage(early, late, np.zeros(len(late)), doublings, trainings)


def flat(value: float, images: int = 400) -> NDArray[np.float64]:
    return np.full(images, value)


def test_a_gap_that_stays_stays_and_one_that_closes_closes_on() -> None:
    assert ahead(flat(0.2), flat(0.2), 3, 3).final == pytest.approx(0.2)
    assert ahead(flat(0.2), flat(0.1), 1, 3).final == pytest.approx(0.05)
    assert ahead(flat(0.2), flat(0.1), 1.5, 3).final == pytest.approx(0.1 * 0.5**1.5)
    assert ahead(flat(0.1), flat(0.2), 2, 3).final == pytest.approx(0.2), "one that opens is not taken to open on"
    assert ahead(flat(-0.1), flat(-0.2), 2, 3).final == pytest.approx(-0.2)
    assert ahead(flat(0.3), flat(-0.1), 2, 3).final == pytest.approx(-0.1)
    assert ahead(flat(0.2), flat(0.1), 9, 3).final == pytest.approx(0.1 * 0.5**FARTHEST)
    assert ahead(flat(0.2), flat(0.1), 0, 3).final == ahead(flat(0.2), flat(0.1), 0, 3).gain


def test_an_interval_holds_the_chance_of_images_and_of_seeds() -> None:
    random = np.random.default_rng(1)
    steady = ahead(flat(0.2), flat(0.2), 0, 3)
    assert steady.low == pytest.approx(0.2 - 1.645 * 0.02 * np.sqrt(2 / 3), abs=2e-3), "the seeds alone"
    assert steady.high == pytest.approx(0.4 - steady.low, abs=2e-3)
    some, many = (random.choice([-1.0, 0.0, 1.0], count, p=(0.1, 0.6, 0.3)) for count in (60, 6000))
    few, sure = ahead(some, some, 0, 3), ahead(many, many, 0, 3)
    assert few.high - few.low > 3 * (sure.high - sure.low)
    assert ahead(some, some, 0, 3) == few


def test_far_from_the_end_the_other_way_may_learn_much_of_what_it_misses(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("attentive_lens.scoring.advantage.SEED", 0.0)
    near, far, farther = (advantage(flat(0.3), flat(0.3), flat(0.4), doublings, 3) for doublings in (3, 4, 7))
    assert near == ahead(flat(0.3), flat(0.3), 3, 3)
    assert far.low == pytest.approx(near.low - 0.4 / 2)
    assert farther.low == pytest.approx(near.low - 0.4 * (1 - 0.5**4))
    assert (far.final, far.high) == (near.final, near.high)


def test_what_is_nobody_s_advantage_is_seldom_told_as_one() -> None:
    random = np.random.default_rng(2)
    draws = [[random.choice([-1.0, 0.0, 1.0], 100, p=(0.2, 0.6, 0.2)) for _ in range(2)] for _ in range(200)]
    results = [ahead(*pair, 2, 3) for pair in draws]
    assert sum(each.low > 0 for each in results) <= 14, "one in twenty at most, and chance about that"
    assert sum(each.high < 0 for each in results) <= 20
    real = [[random.choice([-1.0, 0.0, 1.0], 100, p=(0.1, 0.5, 0.4)) for _ in range(2)] for _ in range(50)]
    assert sum(ahead(*pair, 1, 3).low > 0 for pair in real) >= 40, "and a large one is told"


@given(
    st.lists(st.tuples(st.floats(-1, 1), st.floats(-1, 1)), min_size=1, max_size=40),
    st.floats(-1, 12),
    st.integers(1, 9),
)
def test_what_is_left_is_never_more_than_was_seen_and_has_its_sign(
    pairs: list[tuple[float, float]], doublings: float, trainings: int
) -> None:
    early, late = (np.array(values) for values in zip(*pairs, strict=True))
    result = ahead(early, late, doublings, trainings)
    assert result.low <= result.high
    assert abs(result.final) <= abs(result.gain) + 1e-12
    assert result.final * result.gain >= 0
    assert result.gain == pytest.approx(late.mean())
