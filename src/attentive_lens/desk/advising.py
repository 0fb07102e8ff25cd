"""What is to be said of a run: its advice, from the journal and the images it was trained with."""

from __future__ import annotations

from collections import Counter

from attentive_lens.desk.runs import RunView
from attentive_lens.errors import LensError
from attentive_lens.training.advice import Finding, Record, advise
from attentive_lens.workspace import Run, Workspace

__all__ = ["Finding", "advice_of", "record_of"]


def record_of(workspace: Workspace, run: Run, view: RunView) -> Record:
    """What advice looks at.

    Raises
    ------
    LensError
        If the run's plan cannot be read.
    """
    plan = run.plan()
    names = tuple(workspace.catalogue.classes())
    counts: dict[str, Counter[int]] = {"training": Counter(), "validation": Counter()}
    noted = run.images()
    if noted is not None:
        for label, name in zip(noted[0].tolist(), noted[1], strict=False):
            if name in counts:
                counts[name][label] += 1
    highest = max((label for counter in counts.values() for label in counter), default=-1)
    names += tuple(f"class {k + 1}" for k in range(len(names), highest + 1))  # classes that were there when it began
    training, validation = (tuple(counts[name][k] for k in range(len(names))) for name in ("training", "validation"))
    batches = -(-sum(training) // plan.training.batch_size)
    mean, std = (view.input.mean, view.input.std) if view.input is not None else (None, None)
    return Record(
        plan, tuple(view.epochs), view.state, view.error, names, training, validation, max(1, batches),
        bool(view.rates), mean, std,
    )  # fmt: skip


def advice_of(workspace: Workspace, run: Run, view: RunView) -> tuple[Finding, ...]:
    """All advice for a run; none where its plan cannot be read."""
    if not view.epochs and not view.error:
        return ()
    try:
        return advise(record_of(workspace, run, view))
    except LensError:
        return ()
