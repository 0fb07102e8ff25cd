"""What came of a remedy that was trained."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass

from attentive_lens.desk.results.comparing import alike, judged, row_of
from attentive_lens.errors import LensError
from attentive_lens.plan.difference import differences
from attentive_lens.training.advice import Finding
from attentive_lens.workspace import Run, Workspace


@dataclass(frozen=True)
class Effect:
    """What came of a remedy: the run that tried it, and how it compares with the one that had the trouble."""

    run: int
    sentence: str


def effect_of(workspace: Workspace, run: Run, finding: Finding) -> Effect | None:
    """Of the last run that is done and executed the plan with the remedy, whatever its name and seed; None without."""
    if finding.plan is None:
        return None
    tried = [row for row in alike(workspace, finding.plan) if row.run != run.number]
    if not tried:
        return None
    with contextlib.suppress(LensError):
        before, after = row_of(workspace, run), tried[-1]
        _, _, words = judged(before, after, differences(run.plan(), workspace.run(after.run).plan()))
        figures = ""
        if before.accuracy is not None and after.accuracy is not None:
            figures = f"{before.accuracy:.1%} before, {after.accuracy:.1%} with it. "
        return Effect(after.run, f"Tried in run {after.run}: {figures}{words}")
    return None
