"""The desktop hears of a run's end while nobody looks at the window, and not otherwise."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import psutil
import pytest
from PyQt6.QtGui import QGuiApplication
from pytestqt.qtbot import QtBot
from tests.driving import click

from attentive_lens.core.version import VERSION
from attentive_lens.desk.log import note_fault
from attentive_lens.desk.training.machine import caution_of_machine
from attentive_lens.window import notices
from attentive_lens.window.fault_offer import FaultOffer
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


def test_after_a_fault_a_report_is_offered_once(qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    assert FaultOffer().isHidden()
    note_fault(ValueError("a secret word"))
    offer = FaultOffer()
    qtbot.addWidget(offer)
    assert not offer.isHidden()
    clipboard = QGuiApplication.clipboard()
    assert clipboard is not None
    click(qtbot, offer, "copy fault report")
    text = clipboard.text()
    assert VERSION in text and text.strip().endswith("ValueError") and "secret" not in text
    assert offer.isHidden() and FaultOffer().isHidden()
    note_fault(ValueError("another"))
    again = FaultOffer()
    qtbot.addWidget(again)
    click(qtbot, again, "put fault aside")
    assert FaultOffer().isHidden()
