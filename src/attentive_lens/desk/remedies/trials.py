"""Short trainings of remedies, and of the plan as it is, with the same seed and on the same images.

They lie in the run's folder, each a run of its own, so that they can be stopped, go on, and are gone with the run.
"""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from dataclasses import dataclass, replace

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import BadFile, BadValue, LensError
from attentive_lens.plan.measures import MEASURES
from attentive_lens.plan.plan import Plan
from attentive_lens.training.figures import Figures
from attentive_lens.workspace import Run, Workspace

PART = 0.25
"""Part of a plan's epochs that its trial trains."""
FEWEST = 3
"""Epochs of a trial, at least, unless the plan has fewer."""
WHOLE = 1000
"""What a whole trial counts in the progress."""
FOLDER = "trials"


@dataclass(frozen=True)
class Trial:
    """What came of a short training.

    Attributes
    ----------
    plan : Plan
        As it was trained.
    figures : Figures or None
        Of its best epoch on the validation set; None where it failed, or has none.
    error : str
        Why it failed.
    """

    plan: Plan
    figures: Figures | None
    error: str = ""


def part_of(plan: Plan) -> float:
    """Part of the epochs that a trial of this plan, and of changes of it, trains."""
    epochs = plan.training.epochs
    return min(1.0, max(PART, FEWEST / epochs))


def trial_of(run: Run, plan: Plan) -> Trial | None:
    """What came of a plan's trial; None where it was not ended."""
    known = _run_of(run, plan)
    if known is None:
        return None
    view = RunReader(known).view()
    if view.state == "failed":
        return Trial(plan, None, view.error)
    if view.state != "done":
        return None
    best = view.best
    return Trial(plan, best.validation if best is not None else None)


def tried(workspace: Workspace, run: Run, plans: Sequence[Plan], words: Sequence[str]) -> Job[None]:
    """Train each of some short plans that has no trial yet; who closes the job stops it, and it goes on later.

    The first is what the others are compared with. Another plan that cannot be trained has its failure as its trial.

    Raises
    ------
    BadValue
        If the first plan fails: then nothing else is trained, for nothing could be told of it.
    BadFile
        If a trial cannot be written.
    """
    from attentive_lens.desk.training.executing import Launch, execute  # only here: it loads what trains

    for number, (plan, what) in enumerate(zip(plans, words, strict=True)):
        if number == 1:
            _check_compared(run, plans[0])
        if trial_of(run, plan) is not None:
            continue
        known = _run_of(run, plan)
        trial = known if known is not None else _claim(workspace, run, plan)
        try:
            job = execute(workspace, trial, lambda: False, Launch(resume=known is not None))
            while True:
                try:
                    progress = next(job)
                except StopIteration:
                    break
                part = progress.done / max(1, progress.total)
                yield Progress(round(WHOLE * (number + part)), WHOLE * len(plans), f"trying: {what}")
        except LensError as error:
            if trial_of(run, plan) is None:
                raise BadFile("The trial was not made", error.why, error.remedy) from None
        shutil.rmtree(trial.checkpoints, ignore_errors=True)  # its figures are in its journal


def _check_compared(run: Run, control: Plan) -> None:
    trial = trial_of(run, control)
    if trial is not None and trial.figures is None:
        why = f"the plan as it is failed when it was trained for a short while: {trial.error.rstrip('.')}"
        raise BadValue(f"Nothing can be forecast for run {run.number}", why, "Mend that first, and train anew")


def better(measure: str, figures: Figures, than: Figures) -> float | None:
    """By how much a measure is better; None where it is not known."""
    one, other = figures.of(measure), than.of(measure)
    if one is None or other is None:
        return None
    return float(one - other) if MEASURES[measure].higher else float(other - one)


def _runs(run: Run) -> list[Run]:
    folder = run.folder / FOLDER
    return [Run(each) for each in sorted(folder.iterdir()) if each.name.isdecimal()] if folder.exists() else []


def _run_of(run: Run, plan: Plan) -> Run | None:
    """The trial of a plan, whatever its name."""
    for trial in _runs(run):
        try:
            if replace(trial.plan(), name=plan.name) == plan:
                return trial
        except LensError:
            continue
    return None


def _claim(workspace: Workspace, run: Run, plan: Plan) -> Run:
    workspace.check_writable()
    number = max((trial.number for trial in _runs(run)), default=0) + 1
    trial = Run(run.folder / FOLDER / f"{number:04d}")
    try:
        trial.folder.mkdir(parents=True)
    except OSError as error:
        raise BadFile("The trial was not made", str(error.strerror).lower(), "Check the run's folder") from None
    trial.write_plan(plan)
    return trial
