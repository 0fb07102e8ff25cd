"""Faults of a collection, found before training finds them. Each kind is one file and one line here."""

from __future__ import annotations

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


def find_faults(evidence: Evidence) -> Job[list[Finding]]:
    """Everything that all finders find, kind by kind."""
    findings: list[Finding] = []
    for done, (name, finder) in enumerate(FAULTS.items()):
        yield Progress(done, len(FAULTS), f"looking for {name}")
        findings += yield from finder.find(evidence)
    return findings


__all__ = ["FAULTS", "Action", "Evidence", "Finder", "Finding", "find_faults"]
