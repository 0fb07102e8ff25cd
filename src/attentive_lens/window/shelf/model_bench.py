"""The bench of a model that is looked at, not changed."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QScrollArea

from attentive_lens.desk.requests.shelf import ShelfNetwork
from attentive_lens.plan.blocks import read_network
from attentive_lens.window.bench.bench import Bench
from attentive_lens.window.bench.overview import Overview
from attentive_lens.window.bench.plates import Plate, blocks_of, plates_of
from attentive_lens.window.parts.basics import panel

TALLEST, PLACE = 250, 70
MANY = 24
"""Layers from which blocks are folded."""


def model_bench(name: str, tallest: int = TALLEST) -> tuple[QFrame, Bench]:
    """A panel with an empty bench of that name, which scrolls; ``tallest`` pixels is its highest plate."""
    frame, inside = panel(name=f"{name} panel")
    inside.setContentsMargins(8, 8, 8, 8)
    bench = Bench(name, tallest, PLACE)
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setWidget(bench)
    inside.addWidget(area, 1)
    inside.addWidget(Overview(bench, area))
    return frame, bench


def plates_of_model(network: ShelfNetwork) -> tuple[Plate, ...]:
    """Its plates, blocks folded where there are many."""
    plan = read_network(list(network.nodes))
    facts = {fact.name: fact for fact in plan.facts(network.shape)}
    return plates_of(plan.nodes, facts, network.shape, folded=blocks_of(plan.nodes) if len(plan.nodes) > MANY else ())
