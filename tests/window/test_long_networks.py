"""A network of many layers stays legible on its bench."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import pytest
from PyQt6.QtCore import QEvent, QPoint
from PyQt6.QtGui import QFontMetrics, QHelpEvent
from PyQt6.QtWidgets import QToolTip
from pytestqt.qtbot import QtBot
from tests.driving import child, stage

from attentive_lens.plan.blocks import Block, Dense, Residual, Squeeze, built
from attentive_lens.plan.layers import Convolution, GlobalPooling, LayerSettings, Output
from attentive_lens.window import look
from attentive_lens.window.frame import Frame
from attentive_lens.window.network.bench_panel import BenchPanel
from attentive_lens.window.network.editable_bench import EditableBench
from attentive_lens.workspace import Workspace


def test_a_long_network_keeps_its_names_and_its_strip_says_them(
    qtbot: QtBot, open_frame: Callable[[Workspace], Frame], station: Workspace
) -> None:
    frame = open_frame(station)
    frame.resize(1280, 800)
    stage(qtbot, frame, "network")
    design = frame.session.design
    parts: list[LayerSettings | Block] = [Convolution(filters=4)]
    for _ in range(9):
        parts += [Squeeze(), Residual(filters=4), Dense(depth=2)]
    design.change(replace(design.plan, network=built([*parts, GlobalPooling(), Output()])))
    bench, panel = child(frame, EditableBench, "bench"), child(frame, BenchPanel, "bench side")
    assert len(design.nodes) > 60
    qtbot.waitUntil(panel.overview.isVisible, timeout=5_000)
    measure = QFontMetrics(look.font(look.SMALL)).horizontalAdvance
    for plate in bench.plates:
        lines = bench._name_lines(plate.name, bench.step() - 4, measure, 3)
        assert "…" not in "".join(lines), lines
        assert " ".join(lines).replace("- ", "-") == plate.name
    strip, last = panel.overview, len(bench.plates) - 1
    assert [strip.plate_at(x) for x in (0.0, float(strip.width()))] == [0, last]
    middle = strip.plate_at(strip.width() / 2)
    assert middle is not None
    assert abs(middle - last / 2) < 2
    at = QPoint(round(bench.centre(middle).x() * strip.width() / bench.width()), 8)
    words: list[str] = []
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(QToolTip, "showText", lambda _, text, __: words.append(text))
        strip.event(QHelpEvent(QEvent.Type.ToolTip, at, strip.mapToGlobal(at)))
    assert words[0].startswith(f"{bench.plates[middle].name} · ")
