"""Faults of a collection, found before training finds them. Each kind is one file and one line here."""

from __future__ import annotations

from collections.abc import Collection

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.images.faults.balance import Balance
from attentive_lens.images.faults.base import Action, Evidence, Finder, Finding
from attentive_lens.images.faults.colour import Colour
from attentive_lens.images.faults.doubts import Doubts
from attentive_lens.images.faults.duplicates import Duplicates
from attentive_lens.images.faults.marks import Marks
from attentive_lens.images.faults.poor import Poor
from attentive_lens.images.faults.tiles import Tiles

FAULTS: dict[str, Finder] = {
    "duplicates": Duplicates(),
    "tiles": Tiles(),
    "marks": Marks(),
    "poor images": Poor(),
    "colour": Colour(),
    "balance": Balance(),
    "doubtful labels": Doubts(),
}


def find_faults(evidence: Evidence, names: Collection[str] = FAULTS) -> Job[list[Finding]]:
    """Everything that the finders named find, kind by kind; all of them if none is named."""
    findings: list[Finding] = []
    chosen = {name: finder for name, finder in FAULTS.items() if name in names}
    for done, (name, finder) in enumerate(chosen.items()):
        yield Progress(done, len(chosen), f"looking for {name}")
        findings += yield from finder.find(evidence)
    return findings


__all__ = ["FAULTS", "Action", "Evidence", "Finder", "Finding", "find_faults"]
