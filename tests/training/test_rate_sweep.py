"""The learning-rate sweep: what it suggests on curves worked out by hand, and that it trains at the rates it says."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from tests.answering import answer
from tests.conftest import small_plan

from attentive_lens.desk.requests.rates import SweepRates
from attentive_lens.desk.tasks.sweeping import advice_of
from attentive_lens.errors import BadValue
from attentive_lens.plan.base import Base
from attentive_lens.training import rate_sweep
from attentive_lens.training.rate_sweep import HIGHEST, LOWEST, STEPS, Suggestion, smoothed, suggestion
from attentive_lens.workspace import Workspace

RATES = np.geomspace(LOWEST, HIGHEST, STEPS)
POWERS = np.log10(RATES)


def curve(falls_from: float, falls_to: float, by: float) -> np.ndarray:
    """A loss of 2 that falls evenly between two powers of ten by so much, and rises twice as fast beyond."""
    slope = by / (falls_to - falls_from)
    down = np.clip((POWERS - falls_from) * slope, 0, by)
    return np.asarray(2 - down + np.clip(POWERS - falls_to, 0, None) * 2 * slope)


@pytest.mark.parametrize(("begins", "ends"), [(-4, -2), (-3, -1.5), (-5, -3)])
def test_the_rates_suggested_lie_where_the_loss_falls(begins: float, ends: float) -> None:
    result = suggestion(RATES, curve(begins, ends, 1.0))
    assert result is not None
    assert begins < np.log10(result.lowest) < begins + 0.4 * (ends - begins)
    assert np.log10(result.highest) == pytest.approx(ends - np.log10(3), abs=0.15)
    assert result.lowest <= result.rate <= result.highest
    assert begins - 0.3 < np.log10(result.rate) < ends


def test_the_steepest_fall_is_taken_where_it_is_not_even() -> None:
    steps = 1.2 / (1 + np.exp(-(POWERS + 3) * 6))
    result = suggestion(RATES, 2 - steps + np.clip(POWERS + 1, 0, None))
    assert result is not None
    assert np.log10(result.rate) == pytest.approx(-3, abs=0.1)


def test_what_falls_by_chance_beyond_the_turn_is_not_suggested() -> None:
    clean = curve(-4, -2, 0.6)
    wild = np.where(POWERS > -1, 1.0 + (np.arange(STEPS) % 12 > 5) * 2.0, clean)
    assert wild.min() < clean.min()
    assert suggestion(RATES, wild) == suggestion(RATES, clean)


@pytest.mark.parametrize(
    "losses", [np.full(STEPS, 2.0), 2 + np.clip(POWERS + 2, 0, None), curve(-4, -2, 0.05), np.ones(5)]
)
def test_nothing_is_suggested_where_nothing_was_learned(losses: np.ndarray) -> None:
    assert suggestion(RATES[: len(losses)], losses) is None


@given(st.floats(-3, 3), st.floats(-1, 1), st.integers(1, 60))
def test_smoothing_moves_nothing_along_the_rates(level: float, slope: float, count: int) -> None:
    line = level + slope * np.arange(count)
    assert smoothed(line) == pytest.approx(line, abs=1e-9)


def test_noise_about_a_curve_moves_the_suggestion_little() -> None:
    clean = curve(-4, -2, 1.0)
    places = []
    for seed in range(20):
        result = suggestion(RATES, clean + np.random.default_rng(seed).normal(0, 0.02, STEPS))
        assert result is not None
        places.append((np.log10(result.lowest), np.log10(result.highest)))
    assert np.ptp(np.array(places), axis=0).max() < 0.8


def kept_in(station: Workspace) -> dict[str, int]:
    """Files of a workspace and when they were written, but for its cache."""
    files = (file for file in station.folder.rglob("*") if file.is_file() and station.cache not in file.parents)
    return {str(file): file.stat().st_mtime_ns for file in files}


def test_a_plan_is_swept_on_its_own_images_and_nothing_is_kept(
    station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(rate_sweep, "STEPS", 60)
    before = kept_in(station)
    plan = small_plan().changed({"optimiser": "sgd", "optimiser.learning_rate": 0.01})
    request = SweepRates(str(station.folder), plan.write())
    swept = answer(request)
    assert swept.rates[0] == pytest.approx(LOWEST)
    assert swept.rates[-1] < HIGHEST, "plain gradient descent runs away before a rate of ten"
    assert np.diff(np.log(swept.rates)) == pytest.approx(np.log(swept.rates[1] / swept.rates[0]))
    assert len(swept.losses) == len(swept.curve) == len(swept.rates)
    assert swept.losses[0] == pytest.approx(np.log(6), rel=0.3), "nothing is learned at first"
    assert min(swept.losses) < 0.9 * swept.losses[0]
    assert 0 < swept.lowest <= swept.suggested <= swept.highest
    assert f"Begin with {swept.suggested:.2g}" in swept.advice
    assert answer(request) == swept, "the same plan gives the same sweep"
    assert kept_in(station) == before
    assert swept.rates[1] / swept.rates[0] == pytest.approx((HIGHEST / LOWEST) ** (1 / 59))
    monkeypatch.setattr(rate_sweep, "SECONDS", 0.0)
    hurried = answer(request)
    assert hurried.rates[1] / hurried.rates[0] == pytest.approx((HIGHEST / LOWEST) ** (1 / (rate_sweep.FEWEST - 1)))


def test_the_plan_s_rate_is_judged_by_what_was_found() -> None:
    result = Suggestion(1e-3, 1e-1, 1e-2)
    assert "is sound" in advice_of(result, 1e-2)
    assert "learn slowly" in advice_of(result, 1e-4)
    assert "may not settle" in advice_of(result, 0.5)
    assert "the sweep cannot say" in advice_of(None, 0.1)


def test_what_cannot_learn_is_refused(station: Workspace) -> None:
    first = station.run(1).plan()
    nodes = tuple(replace(node, learning=replace(node.learning, lr_multiplier=0.0)) for node in first.network.nodes)
    frozen = first.with_network(type(first.network)(nodes))
    with pytest.raises(BadValue, match="nothing to learn"):
        answer(SweepRates(str(station.folder), frozen.write()))
    gone = replace(first, base=Base(run=9, until="relu 1"))
    with pytest.raises(Exception, match="There is no run 9"):
        answer(SweepRates(str(station.folder), gone.write()))
