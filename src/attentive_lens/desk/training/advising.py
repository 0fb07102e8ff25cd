"""What is to be said of a run: its advice, from the journal and the images it was trained with."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from attentive_lens.desk.training.runs import RunView
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
    counts = {name: dict(pairs) for name, pairs in _counts(run, run.images_stamp()).items()}
    highest = max((label for each in counts.values() for label in each), default=-1)
    names += tuple(f"class {k + 1}" for k in range(len(names), highest + 1))  # classes that were there when it began
    training, validation = (
        tuple(counts[name].get(k, 0) for k in range(len(names))) for name in ("training", "validation")
    )
    batches = -(-sum(training) // plan.training.batch_size)
    mean, std = (view.input.mean, view.input.std) if view.input is not None else (None, None)
    return Record(
        plan, tuple(view.epochs), view.state, view.error, names, training, validation, max(1, batches),
        bool(view.rates), mean, std,
    )  # fmt: skip


@lru_cache(16)
def _counts(run: Run, _stamp: object) -> dict[str, tuple[tuple[int, int], ...]]:
    """Images by set and class as the run noted them."""
    noted, result = run.images(), dict[str, tuple[tuple[int, int], ...]]()
    for name in ("training", "validation"):
        members = noted[0][np.array(noted[1]) == name] if noted is not None else np.zeros(0, np.int32)
        labels, counts = np.unique(members, return_counts=True)
        result[name] = tuple(zip(labels.tolist(), counts.tolist(), strict=True))
    return result


def advice_of(workspace: Workspace, run: Run, view: RunView) -> tuple[Finding, ...]:
    """All advice for a run; none where its plan cannot be read."""
    if not view.epochs and not view.error:
        return ()
    try:
        return advise(record_of(workspace, run, view))
    except LensError:
        return ()
