"""What `measure` says of itself, on shapes small enough for a test; how fast anything is stays out of the tests."""

from __future__ import annotations

import json
import time

import pytest

from attentive_lens.core.jobs import finish
from attentive_lens.core.records import without_arrays
from attentive_lens.desk.measuring import engine as measuring
from attentive_lens.desk.measuring.engine import CASES, Sampler, large, measure, reference
from attentive_lens.desk.measuring.results import Held
from attentive_lens.engine.threads import ThreadPool


def test_every_figure_is_a_ratio_with_its_range_and_kernel(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(measuring, "SIDE", 64)
    monkeypatch.setattr(measuring, "SHAPES", ((8, 8, 3, 4), (16, 8, 32, 32)))
    monkeypatch.setattr(measuring, "QUICK", (0, 1))
    monkeypatch.setattr(measuring, "CASES", {"reference network": (reference, 2, 16)})
    monkeypatch.setattr(measuring, "_memory", lambda *_: Held(3.0, 2.0, 1.5))
    monkeypatch.setattr(measuring, "IMAGES", 8)
    result = finish(measure(1, True))
    assert result.threads == 1
    assert result.peak_range[0] <= result.peak_multiply_adds_per_second <= result.peak_range[1]
    for figure in result.figures:
        if figure.samples:
            assert 0 < figure.low <= figure.ratio <= figure.high
        assert figure.samples <= 5
        assert figure.samples or figure.dropped
    kernels = {f.what: f.kernel for f in result.figures if "forward with" in f.what}
    assert list(kernels.values()) == ["direct", "tiles"]
    forced = finish(measure(1, True, "direct"))
    assert {f.kernel for f in forced.figures} == {"direct", ""}
    assert [each.name for each in result.epochs] == list(measuring.QUICK_STARTERS)
    held = result.memory["reference network"]
    assert held is not None
    assert held.ratio == 1.5


def test_twice_the_work_is_half_the_ratio(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(measuring, "SIDE", 64)
    monkeypatch.setattr(measuring, "_stolen", lambda: 0)
    with ThreadPool(1) as thread_pool:
        sampler = Sampler(thread_pool, 5)
        monkeypatch.setattr(sampler, "peak", lambda: 1e6)
        one = sampler.ratio("a", lambda: time.sleep(0.01), 1000.0)
        two = sampler.ratio("b", lambda: time.sleep(0.02), 1000.0)
    assert one.ratio == pytest.approx(0.1, rel=0.2)
    assert two.ratio == pytest.approx(0.05, rel=0.2)


def test_samples_with_stolen_time_are_dropped_and_counted(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(measuring, "SIDE", 64)
    ticks = iter(range(10**6))
    monkeypatch.setattr(measuring, "_stolen", lambda: next(ticks))
    with ThreadPool(1) as thread_pool:
        figure = Sampler(thread_pool, 2).ratio("a", lambda: None, 1.0)
    assert (figure.samples, figure.dropped) == (0, 6)
    assert (figure.ratio, figure.low, figure.high) == (None, None, None)
    assert "NaN" not in json.dumps(without_arrays(figure))


def test_the_networks_measured_are_those_named() -> None:
    kinds = [node.layer.kind for node in large().nodes]
    assert kinds.count("convolution") == 12
    assert [n.layer.kind for n in reference().nodes].count("convolution") == 6
    assert CASES["twelve convolutions"][2] == 224
