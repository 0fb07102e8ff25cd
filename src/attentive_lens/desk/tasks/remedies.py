"""The task that tries remedies and says what each should gain."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.remedies.forecasts import digest_of, forecast, keep_forecasts
from attentive_lens.desk.remedies.listing import figures_of, goal, next_steps, worth_trying
from attentive_lens.desk.remedies.trials import WHOLE, part_of, shortened, tried
from attentive_lens.desk.requests.remedies import Forecast, NextSteps, WhatNext
from attentive_lens.desk.results.plain import known_accuracy, plain_accuracy
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
    if not request.tries:
        plain = (yield from known_accuracy(place, run)) if result.state != "training" else None
        return replace(result, plain=plain)
    if result.state == "training":
        raise BadValue(f"Nothing is tried for run {run.number}", "it is training", "Wait for its end, or stop it")
    if result.value is None:
        why = "it has no validation images, so nothing tells which plan is better"
        raise BadValue(f"Nothing is tried for run {run.number}", why, "Train with split.validation_fraction")
    plain = yield from plain_accuracy(place, run)
    steps = worth_trying(result.steps)[: request.tries]
    chosen = [(step.change, Plan.read(step.plan)) for step in steps if step.plan is not None]
    plan = run.plan()
    plans = [shortened(each, part_of(plan)) for each in (plan, *(changed for _, changed in chosen))]
    job = tried(place, run, plans, ["the plan as it is", *(step.remedy.rstrip(".") for step in steps)])

    def so_far(under_way: int) -> NextSteps:
        keep_forecasts(run, _forecasts(run, chosen, result.images))
        return replace(next_steps(place, run, causes), under_way=under_way, plain=plain)

    ended = 0
    while True:
        try:
            progress = next(job)
        except StopIteration:
            return so_far(0)
        known = None
        if progress.done // WHOLE > ended:
            ended = progress.done // WHOLE
            known = so_far(len(plans) - ended)
        yield Progress(progress.done, progress.total, progress.doing, known)


def _forecasts(run: Run, plans: Sequence[tuple[str, Plan]], images: int) -> dict[str, Forecast]:
    """Of kinds of change and their plans, where trials have ended; by the plans' digests."""
    plan, best = run.plan(), RunReader(run).view().best
    part = part_of(plan)
    epochs = shortened(plan, part).training.epochs
    control = figures_of(run, plan, part)
    if control is None or best is None or best.validation is None:
        return {}
    made = {}
    for kind, each in plans:
        figures, measure = figures_of(run, each, part), goal(each)
        value = getattr(best.validation, measure)
        if figures is not None and value is not None:
            result = forecast(kind, value, figures, control, measure, images, epochs, run.number)
            if result is not None:
                made[digest_of(each)] = result
    return made
