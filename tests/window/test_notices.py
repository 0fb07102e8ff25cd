"""The desktop hears of a run's end while nobody looks at the window, and not otherwise."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import psutil
import pytest
from pytestqt.qtbot import QtBot

from attentive_lens.desk.training.machine import caution_of_machine
from attentive_lens.window import notices
from attentive_lens.window.frame import Frame
from attentive_lens.workspace import Workspace


def test_a_run_that_ends_is_told_where_the_window_is_not_in_front(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    calls: list[tuple[str, str, bool]] = []
    monkeypatch.setattr(notices, "notify", lambda *words: calls.append(words))
    frame = open_frame(station)
    for in_front in (True, False):
        monkeypatch.setattr(frame, "isActiveWindow", lambda in_front=in_front: in_front)
        frame.session.runs.ended.emit("Run 1 done: best validation accuracy 90.0%", False)
    qtbot.waitUntil(lambda: bool(calls))
    assert calls == [(station.name, "Run 1 done: best validation accuracy 90.0%", False)]


class Battery(NamedTuple):
    percent: float
    power_plugged: bool | None


class Reading(NamedTuple):
    current: float
    high: float | None


@pytest.mark.parametrize(
    ("battery", "readings", "words"),
    [
        (None, (), ""),
        (Battery(40, True), (Reading(60, 80),), ""),
        (Battery(40, None), (Reading(99, None),), ""),
        (Battery(41.6, False), (), "on battery, 42% full"),
        (None, (Reading(60, 80), Reading(86, 85)), "at 86 °C"),
        (None, (Reading(100, None),), "at 100 °C"),
    ],
)
def test_battery_and_heat_are_told(
    battery: Battery | None, readings: tuple[Reading, ...], words: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(psutil, "sensors_battery", lambda: battery, raising=False)
    monkeypatch.setattr(psutil, "sensors_temperatures", lambda: {"cpu": list(readings)}, raising=False)
    sentence = caution_of_machine()
    assert words in sentence and bool(words) == bool(sentence)
