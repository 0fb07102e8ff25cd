"""What objects show of themselves in a notebook: small tables, in any theme."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from html import escape

from attentive_lens.desk.training.runs import RunView
from attentive_lens.formats.bundle import ModelFile

WIDE, TALL = 220, 60
"""Pixels of a curve."""
CELL = "padding:2px 10px 2px 0;text-align:left"


def table(title: str, heads: Sequence[str], rows: Iterable[Sequence[object]]) -> str:
    """A table as HTML; every text in it is escaped."""
    head = "".join(f'<th style="{CELL}">{escape(each)}</th>' for each in heads)
    body = "".join(
        "<tr>" + "".join(f'<td style="{CELL}">{escape(str(cell))}</td>' for cell in row) + "</tr>" for row in rows
    )
    return f"<div><b>{escape(title)}</b><table><tr>{head}</tr>{body}</table></div>"


def model_table(file: ModelFile) -> str:
    """A model's layers with shapes and weights."""
    settings = file.preprocessor.settings
    facts = file.plan.facts(settings.shape)
    weights = sum(fact.weights for fact in facts)
    title = f"Model of {len(file.classes)} classes, {settings.size_in_words} pixels, {weights} weights"
    rows = [
        (fact.name, node.layer.kind, "×".join(map(str, fact.shape)), fact.weights or "")
        for node, fact in zip(file.plan.nodes, facts, strict=True)
    ]
    return table(title, ("layer", "kind", "output", "weights"), rows)


def run_card(view: RunView) -> str:
    """How a run stands, and its validation accuracy by epoch."""
    return table(f"Run {view.number}: {view.name}", RUN_HEADS, [_run_cells(view)]) + _curve(view)


def workspace_table(name: str, views: Sequence[RunView]) -> str:
    """A workspace's runs."""
    return table(f"Workspace «{name}»", RUN_HEADS, [_run_cells(view) for view in views])


RUN_HEADS = ("run", "name", "state", "epochs", "best on validation")


def _run_cells(view: RunView) -> tuple[object, ...]:
    best = view.best
    right = best.validation.main_in_words if best is not None and best.validation is not None else "–"
    return view.number, view.name, view.state, f"{len(view.epochs)} of {view.planned}", right


def _curve(view: RunView) -> str:
    """Validation accuracy over the epochs, from 0 to 1, as a drawing; nothing before two are known."""
    judged = [(epoch.epoch, epoch.validation.accuracy) for epoch in view.epochs if epoch.validation is not None]
    known = [(epoch, accuracy) for epoch, accuracy in judged if accuracy is not None]
    if len(known) < 2:
        return ""
    last = max(view.planned, known[-1][0])
    points = " ".join(f"{epoch / last * WIDE:.1f},{(1 - accuracy) * TALL:.1f}" for epoch, accuracy in known)
    return (
        f'<svg width="{WIDE}" height="{TALL}" role="img" aria-label="validation accuracy by epoch">'
        f'<line x1="0" y1="{TALL}" x2="{WIDE}" y2="{TALL}" stroke="currentColor" stroke-opacity="0.3"/>'
        f'<polyline points="{points}" fill="none" stroke="#0F6B72" stroke-width="2"/></svg>'
    )
