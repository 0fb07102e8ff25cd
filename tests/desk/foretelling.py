"""Forecasts made up for tests."""

from __future__ import annotations

from attentive_lens.desk.requests.remedies import Forecast


def made(kind: str, gain: float, run: int = 1, measure: str = "accuracy") -> Forecast:
    return Forecast(measure, gain, gain - 0.02, gain + 0.02, 0.5 + gain, 0.5, 3, kind, run)
