"""Training many plans: each that is not trained yet, here or elsewhere, and which of the runs came out best."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace

from attentive_lens.desk.many.searching import better_half, rungs
from attentive_lens.desk.results.comparing import row_of
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import LensError
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Run, Workspace


@dataclass(frozen=True)
class Turn:
    """A plan that is to be trained.

    Attributes
    ----------
    workspace : Workspace
        Where.
    plan : Plan
        What.
    until : int
        Epochs after which it stops, to go on later; 0 for none.
    """

    workspace: Workspace
    plan: Plan
    until: int = 0

    def take(self) -> tuple[Run, bool]:
        """The plan's run, claimed now if there is none, and whether it was begun before."""
        run = run_of(self.workspace, self.plan)
        if run is None:
            return self.workspace.claim_run(self.plan), False
        run.begin()
        run.forget_word()
        return run, True

    def is_over(self) -> bool:
        """Whether its run is as far as it should come."""
        run = run_of(self.workspace, self.plan)
        if run is None:
            return False
        view = RunReader(run).view()
        return view.state == "done" or 0 < self.until <= len(view.epochs)


Train = Callable[[Sequence[Turn]], None]
"""Gives every turn its training; a run that fails holds up no other."""


def run_of(workspace: Workspace, plan: Plan) -> Run | None:
    """A run of this very plan but for its name; one that is done before others."""
    result = []
    for run in workspace.runs():
        try:
            if replace(run.plan(), name=plan.name) == plan:
                result.append((RunReader(run).view().state == "done", run.number, run))
        except LensError:
            continue
    return max(result)[2] if result else None


def trained(workspace: Workspace, plans: Sequence[Plan], train: Train, until: int = 0) -> list[Run]:
    """The plans' runs in their order, each trained to its end or until an epoch; what is done is not done again."""
    turns = [Turn(workspace, plan, until) for plan in plans]
    left = [turn for turn in turns if not turn.is_over()]
    if left:
        train(left)
    return [run for plan in plans if (run := run_of(workspace, plan)) is not None]


def ranked(workspace: Workspace, runs: Iterable[Run]) -> list[Run]:
    """The best first: by validation accuracy, of equals by loss."""
    rows = {run: row_of(workspace, run) for run in runs}

    def order(run: Run) -> tuple[float, float]:
        row = rows[run]
        return -(row.accuracy or 0.0), row.loss if row.loss is not None else math.inf

    return sorted(rows, key=order)


def halved(workspace: Workspace, plans: Sequence[Plan], train: Train) -> list[Run]:
    """Successive halving: the survivors first, best first, then those given up, the last ones before the first."""
    left, given_up = list(plans), list[Run]()
    steps = rungs(plans[0].training.epochs, len(plans))
    for step, epochs in enumerate(steps):
        runs = trained(workspace, left, train, epochs)
        if step == len(steps) - 1:
            return [*ranked(workspace, runs), *given_up]
        best = {row.run for row in better_half([row_of(workspace, run) for run in runs])}
        given_up = [*ranked(workspace, [run for run in runs if run.number not in best]), *given_up]
        left = [run.plan() for run in runs if run.number in best]
    return given_up
