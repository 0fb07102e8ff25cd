"""Figures of two measurements beside each other: what fell by more than both of them vary."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

from attentive_lens.core.records import from_plain
from attentive_lens.desk.measuring.results import Change, Measured
from attentive_lens.errors import BadFile, BadValue

DRIFT = 0.2
"""Part by which the same code may differ between two measurements on a machine that others use too: the greatest of
276 differences between four was 0.17."""
MEMORY_SPREAD = 0.05
"""Part by which what a process grows by varies from run to run, about."""


def read_figures(file: Path, threads: int) -> Measured:
    """An earlier measurement with so many threads: what `measure --json` printed.

    Raises
    ------
    BadFile
        If it is none.
    BadValue
        If it was with another number of threads.
    """
    what = f"{file} was not compared with"
    try:
        before = from_plain(Measured, json.loads(file.read_text("utf-8")), ())
    except OSError as error:
        why = str(error.strerror or error).lower()
        raise BadFile(what, why, "Check the path") from None
    except (TypeError, ValueError, LookupError):
        remedy = "Name a file in which «attentive-lens measure --json» was written"
        raise BadFile(what, "it holds no figures", remedy) from None
    if before.threads != threads:
        why = f"its figures are of {before.threads} threads, and {threads} are to be measured"
        raise BadValue(what, why, f"Measure with --threads {before.threads}")
    return before


def changes(before: Measured, now: Measured) -> tuple[Change, ...]:
    """Of all that both measured, in the order of the later one; none where they measured nothing alike."""
    earlier = {name: (middle, low, high) for name, middle, low, high in _ranges(before)}
    result = []
    for name, middle, low, high in _ranges(now):
        if name in earlier:
            then, least, most = earlier[name]
            ratio = middle / then
            fell, rose = high < least and ratio < 1 - DRIFT, low > most and ratio > 1 + DRIFT
            result.append(Change(name, then, middle, ratio, "fell" if fell else "rose" if rose else ""))
    for name, held in now.memory.items():
        known = before.memory.get(name)
        if held is not None and known is not None:
            ratio = held.ratio / known.ratio
            verdict = "grew" if ratio > 1 + MEMORY_SPREAD else "shrank" if ratio < 1 - MEMORY_SPREAD else ""
            result.append(Change(f"{name}, memory", known.ratio, held.ratio, ratio, verdict))
    return tuple(result)


def _ranges(measured: Measured) -> Iterator[tuple[str, float, float, float]]:
    """What was measured, its middle, least and greatest."""
    for figure in measured.figures:
        if figure.ratio and figure.low is not None and figure.high is not None:
            yield figure.what, figure.ratio, figure.low, figure.high
    for epoch in measured.epochs:
        yield f"epoch of {epoch.name}", epoch.ratio, epoch.low, epoch.high
