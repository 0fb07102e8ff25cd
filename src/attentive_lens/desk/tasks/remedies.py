"""The task that tries remedies and says what each should gain."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.remedies.forecasts import digest_of, forecast, keep_forecasts
from attentive_lens.desk.remedies.listing import figures_of, goal, next_steps, worth_trying
from attentive_lens.desk.remedies.trials import part_of, shortened, tried
from attentive_lens.desk.requests.causes import Cause
from attentive_lens.desk.requests.remedies import NextSteps, WhatNext
from attentive_lens.desk.tasks.causes import known_causes
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import BadValue
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Run, Workspace


def what_next(request: WhatNext) -> Job[NextSteps]:
    """See `WhatNext`: what was tried once is kept, and the list is told again after every trial."""
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    causes = known_causes(place, run)
    result = next_steps(place, run, causes)
    chosen = [Plan.read(step.plan) for step in worth_trying(result.steps)[: request.tries] if step.plan is not None]
    words = [step.remedy.rstrip(".") for step in worth_trying(result.steps)[: request.tries]]
    if not request.tries:
        return result
    if result.state == "training":
        raise BadValue(f"Nothing is tried for run {run.number}", "it is training", "Wait for its end, or stop it")
    if result.value is None:
        why = "it has no validation images, so nothing tells which plan is better"
        raise BadValue(f"Nothing is tried for run {run.number}", why, "Train with split.validation_fraction")
    plan = run.plan()
    part = part_of(plan)
    plans = [shortened(each, part) for each in (plan, *chosen)]
    job = tried(place, run, plans, ["the plan as it is", *words])
    ended = 0
    while True:
        try:
            progress = next(job)
        except StopIteration:
            break
        so_far = None
        if progress.done // 1000 > ended:
            ended = progress.done // 1000
            known = _forecast(place, run, chosen, result.images, causes)
            so_far = replace(known, under_way=len(plans) - ended)
        yield Progress(progress.done, progress.total, progress.doing, so_far)
    return _forecast(place, run, chosen, result.images, causes)


def _forecast(place: Workspace, run: Run, plans: list[Plan], images: int, causes: tuple[Cause, ...]) -> NextSteps:
    """The list, with forecasts of the plans whose trials have ended."""
    plan = run.plan()
    part = part_of(plan)
    control, kinds = figures_of(run, plan, part), {}
    for step in next_steps(place, run, causes).steps:
        if step.plan is not None:
            kinds[digest_of(Plan.read(step.plan))] = step.change
    made = {}
    best = RunReader(run).view().best
    before = best.validation if best is not None else None
    for each in plans:
        figures, measure, digest = figures_of(run, each, part), goal(each), digest_of(each)
        value = getattr(before, measure) if before is not None else None
        if figures is None or control is None or value is None or digest not in kinds:
            continue
        epochs = shortened(plan, part).training.epochs
        result = forecast(kinds[digest], value, figures, control, measure, images, epochs, run.number)
        if result is not None:
            made[digest] = result
    keep_forecasts(run, made)
    return next_steps(place, run, causes)
