"""The list of what to do next: from advice, from causes that were looked for, and from changes often worth a try."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from attentive_lens.desk.network.design import facts_of
from attentive_lens.desk.remedies.changes import CHANGES
from attentive_lens.desk.remedies.forecasts import (
    ANY,
    EXPERIENCE,
    Tried,
    borrowed,
    calibration,
    digest_of,
    kept_forecasts,
    together,
)
from attentive_lens.desk.remedies.joining import begins_alike, joined
from attentive_lens.desk.remedies.trials import part_of, trial_of
from attentive_lens.desk.requests.causes import Cause
from attentive_lens.desk.requests.remedies import MOST, NextStep, NextSteps, points
from attentive_lens.desk.training.advising import advice_of
from attentive_lens.desk.training.runs import RunReader, RunView
from attentive_lens.errors import LensError
from attentive_lens.plan.difference import differences
from attentive_lens.plan.measures import MEASURES
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.shortening import shortened
from attentive_lens.training.advice import GRAVE
from attentive_lens.training.figures import Figures
from attentive_lens.workspace import Run, Workspace

LEAST, JOINED = 0.004, 5
"""Gain from which on a remedy is joined with others, and how many of them at most."""
LAST_TOGETHER = 3
"""Trials from which on the last of them is of what should help, all together."""
TROUBLE = 0.012
"""Gain that what is wrong with a run is thought to be worth more than what is only worth a try."""
NO_PLAN = "no plan decides it: look at the images"
DRAWN = "it is not tried: trials are judged by answers of classes"
OTHER_IMAGES = "it changes which images judge, so that nothing can be compared"


@dataclass(frozen=True)
class _Remedy:
    """A remedy before anything is known of its gain."""

    kind: str
    source: str
    remedy: str
    evidence: str = ""
    meaning: str = ""
    expected: str = ""
    epoch: int = 0
    plan: Plan | None = None


def next_steps(workspace: Workspace, run: Run, causes: Sequence[Cause] = ()) -> NextSteps:
    """All remedies of a run with what is known of each.

    Parameters
    ----------
    causes
        Of the run's mistakes, where they were looked for.

    Raises
    ------
    LensError
        If the run's plan cannot be read.
    """
    plan, view = run.plan(), RunReader(run).view()
    noted = run.images()
    images = noted[1].count("validation") if noted is not None else 0
    best = view.best.validation if view.best is not None else None
    known, tried = kept_forecasts(run), Tried(workspace)
    is_over = bool(view.epochs) and view.state != "training"
    changes = _changes(workspace, plan) if is_over and not plan.task.draws else {}
    steps: dict[str, NextStep] = {}
    for remedy in [*_remedies(workspace, run, view, causes), *changes.values()]:
        digest = digest_of(remedy.plan) if remedy.plan is not None else f"{remedy.kind} {remedy.remedy}"
        if digest not in steps and (remedy.plan is None or remedy.plan != plan):
            amounts_to = changes[digest].kind if digest in changes else remedy.kind
            step = replace(_step(remedy, run, plan, view, digest, tried), change=amounts_to)
            steps[digest] = replace(step, problem=step.problem or DRAWN) if plan.task.draws else step
    undone = any(step.kind in GRAVE and step.run is None for step in steps.values())
    others = {} if undone else tried.forecasts(run)  # what helps a sound run says nothing of one that is undone
    for digest, step in steps.items():
        if step.plan is None or step.problem:
            continue
        if digest in known:
            steps[digest] = replace(step, forecast=known[digest], tried=True)
        elif step.change in others:
            made = others[step.change]
            value = best.of(made.measure) if best is not None else None
            if value is not None and begins_alike(workspace.run(made.run).plan(), plan, Plan.read(step.plan)):
                steps[digest] = replace(step, forecast=borrowed(made, value))
    measure = goal(plan)
    value = best.of(measure) if best is not None else None
    joint = None if plan.task.draws else _together(run, plan, view, list(steps.values()), tried)
    if joint is not None:
        own = known.get(digest_of(Plan.read(joint.plan))) if joint.plan is not None else None
        steps["together"] = joint if own is None else replace(joint, forecast=own, tried=True)
    ordered = tuple(sorted(steps.values(), key=_order))
    return NextSteps(
        run.number, view.state, measure, value, images, ordered,
        seconds_of(plan, run, ordered, view), calibration(tried.outcomes()),
        accuracy=best.accuracy if best is not None else None,
    )  # fmt: skip


def goal(plan: Plan) -> str:
    """The measure, of those where more is better, that a plan chooses its best epoch by."""
    chosen = plan.training.best_by
    return chosen if MEASURES[chosen].higher else "accuracy"


def worth_trying(steps: Sequence[NextStep]) -> list[NextStep]:
    """What was not tried and can be, the most promising first."""
    return [step for step in steps if step.can_be_tried]


def tried_first(worth: Sequence[NextStep], tries: int) -> Sequence[NextStep]:
    """Those of so many trials that are of the list as it is: the last is kept for what should help, all together."""
    return worth[: tries - 1] if tries >= LAST_TOGETHER else worth[:tries]


def seconds_of(plan: Plan, run: Run, steps: Sequence[NextStep], view: RunView) -> float:
    """About how long the next trials take, should all that are tried help; 0 where nothing tells."""
    first = [Plan.read(step.plan) for step in tried_first(worth_trying(steps), MOST) if step.plan]
    joint, places = joined(plan, first[:JOINED])
    plans = [*first, joint] if len(places) > 1 else first
    short = [shortened(each, part_of(plan)) for each in plans]
    control = shortened(plan, part_of(plan))
    left = [control] if short and trial_of(run, control) is None else []
    return sum(_seconds(each, plan, view) or 0.0 for each in [*left, *short])


def _remedies(workspace: Workspace, run: Run, view: RunView, causes: Sequence[Cause]) -> Iterator[_Remedy]:
    """For what is wrong."""
    for finding in advice_of(workspace, run, view):
        yield _Remedy(
            finding.kind, "advice", finding.remedy, finding.evidence, finding.meaning, finding.expected, finding.epoch,
            finding.plan,
        )  # fmt: skip
    for cause in causes:
        for remedy in cause.remedies:
            if remedy.plan is not None:
                count = f"{len(cause.images)} mistakes {cause.short}"
                yield _Remedy(
                    cause.kind, "causes", f"{remedy.words}.", count, f"{cause.why}.", f"{remedy.forecast}.",
                    plan=Plan.read(remedy.plan),
                )  # fmt: skip


def _changes(workspace: Workspace, plan: Plan) -> dict[str, _Remedy]:
    """What is often worth a try, by the digests of the plans."""
    result, side = dict[str, _Remedy](), _side(workspace)
    for change in CHANGES.values():
        try:
            made = change.make(plan, side)
        except LensError:
            continue  # it does not fit this plan
        if made is not None:
            result[digest_of(made)] = _Remedy(change.kind, "settings", change.words(made, plan), plan=made)
    return result


def _together(run: Run, plan: Plan, view: RunView, steps: Sequence[NextStep], tried: Tried) -> NextStep | None:
    """All remedies that are expected to bring something, at once; None where there are fewer than two."""
    helping = [
        (step, step.forecast, Plan.read(step.plan))
        for step in sorted(steps, key=_order)
        if step.forecast is not None and step.plan is not None and step.run is None
        and step.forecast.measure == goal(plan) and step.forecast.gain >= LEAST
    ]  # fmt: skip
    made, places = joined(plan, [changed for _, _, changed in helping[:JOINED]])
    if len(places) < 2:
        return None
    parts = [helping[place] for place in places]
    words = " ".join(f"{step.remedy.partition(';')[0].rstrip('.')}." for step, _, _ in parts)
    remedy = _Remedy("together", "together", words, plan=made)
    step = _step(remedy, run, plan, view, digest_of(made), tried)
    best = view.best.validation if view.best is not None else None
    value = getattr(best, goal(plan), None)
    if step.problem or value is None:
        return None
    return replace(step, forecast=together([forecast for _, forecast, _ in parts], value))


def _side(workspace: Workspace) -> int:
    """Pixels of the files' longer side."""
    sides = [max(row.width, row.height) for row in workspace.catalogue.images()]
    return int(np.median(sides)) if sides else 0


def _step(remedy: _Remedy, run: Run, plan: Plan, view: RunView, digest: str, tried: Tried) -> NextStep:
    """With what is known of it but for its forecast."""
    changed = remedy.plan
    changes = differences(plan, changed) if changed is not None else ()
    step = NextStep(
        remedy.kind, remedy.source, remedy.epoch, remedy.remedy, remedy.evidence, remedy.meaning, remedy.expected,
        remedy.kind, changes, changed.write() if changed is not None else None,
    )  # fmt: skip
    if changed is None:
        return replace(step, problem=NO_PLAN)
    seconds = _seconds(changed, plan, view)
    if changed.split != plan.split:
        return replace(step, seconds=seconds, problem=OTHER_IMAGES)
    came = tried.gained(run, digest, goal(changed))
    if came is not None:
        number, gain = came
        label = MEASURES[goal(changed)].label
        effect = f"Tried in run {number}: {points(gain)} points of {label} on the validation images."
        return replace(step, seconds=seconds, run=number, gain=gain, effect=effect)
    trial = trial_of(run, shortened(changed, part_of(plan)))
    problem = trial.error if trial is not None and trial.figures is None else ""
    return replace(step, seconds=seconds, problem=problem)


def _order(step: NextStep) -> tuple[int, float]:
    """What undoes the run; what should help, was not tried, should not help, was done; what no plan decides.

    Of what was not tried that stands first which may bring most, not what does in the mean: a trial tells.
    """
    if step.run is not None:
        return 3, -(step.gain or 0.0)
    if step.kind in GRAVE and step.plan is not None and (step.forecast is None or step.forecast.helps):
        return -1, 0.0
    if step.forecast is not None:
        return (0 if step.forecast.helps else 2), -step.forecast.gain
    if not step.can_be_tried:
        return 4, 0.0
    known = EXPERIENCE.get(step.change, ANY)
    return 1, -(known.mean + known.spread + (TROUBLE if step.source in ("advice", "causes") else 0.0))


def _seconds(plan: Plan, of: Plan, view: RunView) -> float | None:
    """About how long a plan trains, by the run's own epochs and by what both cost an image."""
    if not view.epochs:
        return None
    epoch = float(np.median([each.seconds for each in view.epochs]))
    try:
        cost, before = (sum(fact.multiply_adds for fact in facts_of(each, 2)[1]) for each in (plan, of))
    except LensError:
        return None
    seconds = epoch * plan.training.epochs * cost / max(1, before)
    return seconds if math.isfinite(seconds) else None


def figures_of(run: Run, plan: Plan, part: float) -> Figures | None:
    """Of a plan's trial."""
    trial = trial_of(run, shortened(plan, part))
    return trial.figures if trial is not None else None
