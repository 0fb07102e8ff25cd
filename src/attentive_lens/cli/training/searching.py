"""The commands that train many runs to find what is better: sweeps over settings, and cross-validation."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from attentive_lens.cli.app import AsJson, InWorkspace, OnCluster, PlanFile, Settings, app, out_file
from attentive_lens.cli.speaking import from_words, out, reporting, say_json, watched
from attentive_lens.cli.training.run_results import CrossValidated, SweepDone
from attentive_lens.desk.results.comparing import row_of
from attentive_lens.errors import BadUsage, NotHere
from attentive_lens.workspace import Workspace


@app.command()
@reporting
def sweep(
    workspace: InWorkspace,
    over: Annotated[
        list[str],
        typer.Option(
            metavar="KEY=VALUES",
            help="A setting and its values: optimiser.learning_rate=0.0003,0.001; with --random also a range:"
            " …=0.0001..0.01. Repeatable.",
        ),
    ],
    plan: PlanFile = None,
    settings: Settings = None,
    random: Annotated[int, typer.Option(metavar="N", min=0, help="Train N random combinations, not all.")] = 0,
    halving: Annotated[
        bool, typer.Option("--halving", help="Train all a little, give the worse half up, and so on to the last.")
    ] = False,
    queue: Annotated[bool, typer.Option("--queue", help="Put the runs into the queue and leave.")] = False,
    on: OnCluster = "",
    as_json: AsJson = False,
) -> None:
    """Train a plan with several values of some settings, one run after the other or on a cluster, and rank them.

    Runs of the same plans that are there already count, and interrupted ones go on: the same command again continues.
    """
    from attentive_lens.cli.training.planning import planned_in
    from attentive_lens.desk.many.searching import check_judged, grid, read_axis, sample
    from attentive_lens.desk.many.series import halved, ranked, run_of, trained
    from attentive_lens.desk.training.queue import enqueue

    place = Workspace.open(workspace)
    with from_words():
        first = planned_in(workspace, plan, settings)
        axes = tuple(read_axis(words) for words in over)
        plans = sample(first, axes, random) if random else grid(first, axes)
    check_judged(first)
    if queue and halving:
        raise BadUsage("The sweep was not queued", "halving must see how good the runs are", "Leave out one of them")
    if queue and on:
        raise BadUsage("The sweep was not queued", "a cluster has a queue of its own", "Leave out one of them")
    if queue:
        numbers = tuple(enqueue(place, each).number for each in plans if run_of(place, each) is None)
        if as_json:
            say_json(SweepDone((), None, numbers))
        else:
            out.print(f"{len(numbers)} runs wait in the queue: {', '.join(map(str, numbers))}")
        return
    from attentive_lens.cli.training.serial import trainer

    train = trainer(on)
    best_first = halved(place, plans, train) if halving else ranked(place, trained(place, plans, train))
    rows = tuple(row_of(place, run) for run in best_first)
    if as_json:
        say_json(SweepDone(rows, rows[0].run if rows else None, ()))
        return
    for place_, row in enumerate(rows, 1):
        accuracy = row.main_in_words or "–"
        within = f" ({row.low:.1%} to {row.high:.1%})" if row.low is not None and row.high is not None else ""
        out.print(f"{place_:>3}. run {row.run}: {accuracy}{within}, {row.epochs} epochs · {row.name}")
    if len(rows) > 1 and rows[0].low is not None and (rows[1].accuracy or 0) >= rows[0].low:
        out.print("The first is not clearly better than the second: repeat both with other seeds before choosing.")


@app.command()
@reporting
def cross_validate(
    workspace: InWorkspace,
    plan: PlanFile = None,
    settings: Settings = None,
    folds: Annotated[int, typer.Option(metavar="N", min=2, max=100, help="Parts that take turns.")] = 5,
    on: OnCluster = "",
    answers: Annotated[
        Path | None,
        out_file("Write every image's answer there."),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Train a plan once for each fold, so that every training image is answered by a model that never saw it."""
    from attentive_lens.cli.training.planning import planned_in
    from attentive_lens.cli.training.serial import trainer
    from attentive_lens.desk.many import searching
    from attentive_lens.desk.many.cross_validation import crossed, write_answers
    from attentive_lens.desk.many.series import trained

    place = Workspace.open(workspace)
    first = planned_in(workspace, plan, settings)
    if first.task.draws:
        why = "its network draws images, and folds are told by their answers"
        raise BadUsage("The plan was not cross-validated", why, "Give a plan with task=classify")
    plans = searching.folds(first, folds)
    runs = trained(place, plans, trainer(on))
    result = watched(crossed(place, runs), "answering")
    if not result.answers:
        raise NotHere("There is nothing to tell", "no fold has images with labels", "Label some images")
    if answers is not None:
        write_answers(answers, result)
    if as_json:
        figures = (result.images, result.accuracy, result.low, result.high, result.by_fold)
        file = str(answers) if answers is not None else None
        say_json(CrossValidated(tuple(run.number for run in runs), *figures, file))
        return
    each = ", ".join(f"{accuracy:.1%}" for accuracy in result.by_fold)
    out.print(
        f"{result.images} images, each answered by a model that never saw it: {result.accuracy:.1%} right"
        f" (95 %: {result.low:.1%} to {result.high:.1%}); by fold {each}"
    )
