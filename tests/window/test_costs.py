"""Costs in the window: a table taken in, decisions seen, and the images behind them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtWidgets import QFileDialog, QTableWidget
from pytestqt.qtbot import QtBot
from tests.driving import child, click, said, stage

from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.costs import WeighCosts
from attentive_lens.desk.tasks import carry_out
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.results import ResultsPage
from attentive_lens.window.parts.matrix import ConfusionMatrix
from attentive_lens.window.results.costs import CostsView
from attentive_lens.workspace import Workspace


def test_a_table_of_costs_changes_decisions_and_each_leads_to_its_images(
    qtbot: QtBot,
    open_frame: Callable[[Workspace], Frame],
    station: Workspace,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "results")
    page = frame.page("results")
    assert isinstance(page, ResultsPage)
    qtbot.waitUntil(lambda: frame.session.scores.current is not None, timeout=30_000)
    page.show_view("costs")
    view, table = page.view(CostsView), child(frame, QTableWidget, "costs table")
    assert not table.isVisible()
    assert said(frame, "costs say").startswith("A table of costs says")
    file = tmp_path / "costs.csv"
    file.write_text("true,withheld\n" + "".join(f"{name},0.2\n" for name in station.catalogue.classes()))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(file), ""))
    click(qtbot, frame, "cost table")
    qtbot.waitUntil(lambda: view.result is not None, timeout=30_000)
    result = finish(carry_out(WeighCosts(str(station.folder), 1, str(file))))
    changes = result.changes()
    assert table.rowCount() == len(changes) > 0
    assert said(frame, "costs say").startswith("costs.csv: Answers cost")
    with qtbot.waitSignal(view.chosen) as chosen:
        table.selectRow(0)
    assert chosen.args == [f"said {changes[0].predicted}, decided withheld", changes[0].images]
    matrix = child(frame, ConfusionMatrix, "decided matrix")
    assert matrix.classes[-1] == "withheld"
    matrix.grab()
    last = len(matrix.classes) - 1
    with qtbot.waitSignal(view.chosen) as chosen:
        matrix.choose_column(last)
    assert chosen.args[1] == result.images_in((0, last), (last, last))
    assert not table.selectedItems()
    assert view.figure().startswith("saves ")
    file.write_text("true,oak\nspiny,1\n")
    view.take_table(file)
    qtbot.waitUntil(lambda: "oak" in said(frame, "costs say"), timeout=30_000)
    assert not table.isVisible()
    assert not matrix.isVisible()
