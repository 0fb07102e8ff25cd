"""The task that tries remedies and says what each should gain."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.remedies.forecasts import digest_of, forecast, keep_forecasts
from attentive_lens.desk.remedies.listing import figures_of, goal, next_steps, tried_first, worth_trying
from attentive_lens.desk.remedies.trials import WHOLE, part_of, tried
from attentive_lens.desk.requests.remedies import Forecast, NextStep, NextSteps, WhatNext
from attentive_lens.desk.results.plain import known_accuracy, plain_accuracy
from attentive_lens.desk.tasks.causes import known_causes
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import BadUsage, BadValue
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.shortening import shortened
from attentive_lens.workspace import Run, Workspace


def what_next(request: WhatNext) -> Job[NextSteps]:
    """See `WhatNext`: what was tried once is kept, and the list is told again after every trial."""
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    if run.plan().task.draws:
        if not request.tries:
            return next_steps(place, run)
        why = "it draws images, and trials are judged by answers of classes"
        raise BadUsage(f"Nothing is tried for run {run.number}", why, "Take up its advice, or look at what it draws")
    causes = known_causes(place, run)
    result = next_steps(place, run, causes)
    if not request.tries:
        is_known = result.state != "training" and not _is_of_labels(run)
        plain = (yield from known_accuracy(place, run)) if is_known else None
        return replace(result, plain=plain)
    if result.state == "training":
        raise BadValue(f"Nothing is tried for run {run.number}", "it is training", "Wait for its end, or stop it")
    if result.value is None:
        why = "it has no validation images, so nothing tells which plan is better"
        raise BadValue(f"Nothing is tried for run {run.number}", why, "Train with split.validation_fraction")
    plain = None if _is_of_labels(run) else (yield from plain_accuracy(place, run))
    worth = worth_trying(result.steps)
    chosen = tried_first(worth, request.tries)
    total = 1 + min(request.tries, len(worth) + 1)
    made: list[NextStep] = []

    def so_far(ended: int) -> NextSteps:
        keep_forecasts(run, _forecasts(run, made, result.images))
        return replace(next_steps(place, run, causes), under_way=max(0, total - ended), plain=plain)

    before = 0
    while chosen:
        made += chosen
        yield from _trials(place, run, chosen, before, total, so_far)
        before += len(chosen)
        chosen = worth_trying(so_far(before + 1).steps)[: total - 1 - before]  # what helps together stands first
    return so_far(total)


def _is_of_labels(run: Run) -> bool:
    """Whether it answers several labels and none is asked about, so that nothing has one accuracy."""
    return run.plan().task.several and not run.label


def _trials(
    place: Workspace, run: Run, chosen: Sequence[NextStep], before: int, total: int, so_far: Callable[[int], NextSteps]
) -> Job[None]:
    """Try some remedies after so many others, and say what is known whenever one has ended."""
    plan = run.plan()
    plans = [shortened(each, part_of(plan)) for each in (plan, *_plans(chosen))]
    job = tried(place, run, plans, ["the plan as it is", *(step.remedy.rstrip(".") for step in chosen)])
    ended = before
    while True:
        try:
            progress = next(job)
        except StopIteration:
            return
        done = progress.done + before * WHOLE
        known = None
        if done // WHOLE > ended:
            ended = done // WHOLE
            known = so_far(ended)
        yield Progress(done, total * WHOLE, progress.doing, known)


def _plans(steps: Sequence[NextStep]) -> list[Plan]:
    return [Plan.read(step.plan) for step in steps if step.plan is not None]


def _forecasts(run: Run, steps: Sequence[NextStep], images: int) -> dict[str, Forecast]:
    """Of remedies whose trials have ended; by their plans' digests."""
    plan, best = run.plan(), RunReader(run).view().best
    part = part_of(plan)
    epochs = shortened(plan, part).training.epochs
    control = figures_of(run, plan, part)
    if control is None or best is None or best.validation is None:
        return {}
    made = {}
    for kind, each in zip((step.change for step in steps), _plans(steps), strict=True):
        figures, measure = figures_of(run, each, part), goal(each)
        value = best.validation.of(measure)
        if figures is not None and value is not None:
            result = forecast(kind, value, figures, control, measure, images, epochs, run.number)
            if result is not None:
                made[digest_of(each)] = result
    return made
