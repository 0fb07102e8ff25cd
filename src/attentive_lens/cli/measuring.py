"""The command that times the engine."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer
from rich.table import Table

from attentive_lens.cli.app import AsJson, app
from attentive_lens.cli.libraries import missing, platform_of
from attentive_lens.cli.speaking import out, reporting, say, say_json, watched
from attentive_lens.desk.about import about
from attentive_lens.desk.measuring.results import Change


@app.command("about")
@reporting
def tell_about(as_json: AsJson = False) -> None:
    """Tell what this installation is, for a report of a fault: versions, machine, folders, what Qt lacks."""
    display = platform_of(dict(os.environ))
    installation = about(display, tuple(missing(display)))
    if as_json:
        say_json(installation)
    else:
        say(installation)


@app.command()
@reporting
def measure(
    quick: Annotated[bool, typer.Option("--quick", help="Fewer shapes and samples: within a minute.")] = False,
    threads: Annotated[int, typer.Option(metavar="N", min=1, max=64, help="Cores used.")] = 2,
    kernels: Annotated[str, typer.Option(metavar="WORD", help="auto, direct or tiles.")] = "auto",
    against: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Compare with what «measure --json» printed earlier.")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Time the engine on this machine, as ratios to its matrix-product peak."""
    from attentive_lens.core.values import unknown_word
    from attentive_lens.desk.measuring.against import changes, read_figures
    from attentive_lens.desk.measuring.engine import measure as measured
    from attentive_lens.engine.kernels.choice import KERNELS

    if kernels not in KERNELS:
        raise unknown_word("kernels", kernels, frozenset(KERNELS))
    before = read_figures(against, threads) if against is not None else None
    measurements = watched(measured(threads, quick, kernels), "measuring")
    if before is not None:
        measurements = replace(measurements, against=changes(before, measurements))
    if as_json:
        say_json(measurements)
        return
    low, high = (peak / 1e9 for peak in measurements.peak_range)
    out.print(
        f"peak with {threads} threads: {measurements.peak_multiply_adds_per_second / 1e9:.0f} thousand million"
        f" multiply-adds a second ({low:.0f}–{high:.0f})"
    )
    table = Table("part of the peak", "median", "range", "samples", "dropped", "kernel", box=None)
    for figure in measurements.figures:
        middle, least, most = (
            "–" if part is None else f"{part:.2f}" for part in (figure.ratio, figure.low, figure.high)
        )
        counts = (str(figure.samples), str(figure.dropped))
        table.add_row(figure.what, middle, f"{least}–{most}" if figure.samples else "", *counts, figure.kernel)
    out.print(table)
    epochs = Table("epoch as a user runs it", "part of the peak", "seconds", "where the time goes", box=None)
    for each in measurements.epochs:
        greatest = sorted(each.shares.items(), key=lambda share: -share[1])[:4]
        words = ", ".join(f"{part} {share:.0%}" for part, share in greatest)
        epochs.add_row(each.name, f"{each.ratio:.2f}", f"{each.seconds:.2f}", words)
    out.print(epochs)
    for name, memory in measurements.memory.items():
        if memory:
            out.print(f"{name}: a step holds {memory.grown_mb:.0f} MB, {memory.ratio:.2f} of what it must hold")
    if before is not None:
        _print_changes(measurements.against)


def _print_changes(against: tuple[Change, ...]) -> None:
    if not against:
        out.print("Nothing was measured both times: measure both with --quick, or both without.")
        return
    table = Table("against earlier figures", "before", "now", "ratio", "", box=None)
    for each in against:
        table.add_row(each.what, f"{each.before:.2f}", f"{each.now:.2f}", f"{each.ratio:.2f}", each.verdict)
    out.print(table)
    worse = [each.what for each in against if each.is_worse]
    out.print(f"Worse by more than it varies: {'; '.join(worse)}." if worse else "Nothing fell by more than it varies.")
