"""How long does the bench take to show an edit of a large network?

A branched network of some 265 layers for 100 classes and images of 224×224 pixels is edited in the middle, with the
sheet and with the text beside it. Printed are milliseconds from the edit to the painted bench, and their ratio to
painting the same bench without an edit.

    python benchmarks/editing.py
"""

from __future__ import annotations

import os
import statistics
import tempfile
import time
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtWidgets import QApplication

from attentive_lens.core.jobs import finish
from attentive_lens.demo.station import make
from attentive_lens.desk.making import make_workspace
from attentive_lens.plan import editing
from attentive_lens.plan.blocks import Block, Branches, Dense, Residual, Squeeze, built
from attentive_lens.plan.layers import (
    BatchNormalisation,
    Convolution,
    GlobalPooling,
    LayerSettings,
    Output,
    Relu,
)
from attentive_lens.window.application import make_application, make_frame
from attentive_lens.window.pages.network import NetworkPage
from attentive_lens.window.session import Session

ROUNDS = 25


def large() -> list[LayerSettings | Block]:
    parts: list[LayerSettings | Block] = [Convolution(filters=16), BatchNormalisation(), Relu()]
    for filters in (16, 32, 64, 128):
        parts += [Residual(filters=filters, stride=2), Branches(filters=filters // 2), Squeeze()]
        parts += [Residual(filters=filters), Dense(depth=4), Residual(filters=filters)]
    return [*parts, GlobalPooling(), Output()]


def main() -> None:
    application = make_application()
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder) / "station"
        workspace = finish(make_workspace(place, finish(make(place, 120, 1)))).workspace
        frame = make_frame(Session(workspace))
        frame.resize(1280, 800)
        frame.show()
        frame.show_stage("network")
        page = frame.page("network")
        assert isinstance(page, NetworkPage)
        design = frame.session.design
        plan = design.plan.changed({"preprocessing.input_size": 224})
        design.change(replace(plan, network=built(large())))
        page.panel.fold_all(False)
        print(f"{len(design.nodes)} layers, {len(page.bench.plates)} plates")
        for view, show in (("sheet", page.show_layer), ("text", page.show_text)):
            show()
            QApplication.processEvents()
            edits, paints = [], []
            for k in range(ROUNDS):
                start = time.perf_counter()
                page.bench.repaint()
                middle = time.perf_counter()
                layer = Convolution(filters=40 + k % 2)
                design.edit(editing.change(design.nodes, "convolution 20", layer), "filters")
                page.bench.repaint()
                edits.append(time.perf_counter() - middle)
                paints.append(middle - start)
            edit, paint = statistics.median(edits), statistics.median(paints)
            print(f"{view}: {edit * 1e3:.0f} ms from edit to paint, {edit / paint:.2f} of painting alone")
        frame.close()
    application.quit()


if __name__ == "__main__":
    main()
