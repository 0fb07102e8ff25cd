"""The commands that put runs side by side."""

from __future__ import annotations

from contextlib import nullcontext, suppress
from dataclasses import replace
from typing import Annotated

import typer
from rich.table import Column, Table

from attentive_lens.cli.app import AsJson, InWorkspace, OnCluster, OnSet, PlanFile, Settings, app, check_set, run_number
from attentive_lens.cli.speaking import out, reporting, say_json, say_rows, watched
from attentive_lens.errors import BadUsage, NotHere
from attentive_lens.workspace import Workspace

SORTS = ("run", "accuracy", "loss", "seconds")


@app.command()
@reporting
def runs(
    workspace: InWorkspace,
    sort: Annotated[str, typer.Option(metavar="WORD", help="run, accuracy (best first), loss or seconds.")] = "run",
    as_json: AsJson = False,
) -> None:
    """List all runs: best validation accuracy with its interval, loss, time, and the settings in which they differ."""
    from attentive_lens.core.values import unknown_word
    from attentive_lens.desk.results.comparing import RunRow, RunsTable, runs_table

    if sort not in SORTS:
        raise unknown_word("--sort", sort, frozenset(SORTS))
    table = runs_table(Workspace.open(workspace))

    def place(row: RunRow) -> tuple[bool, float]:
        value = {"run": row.run, "accuracy": row.accuracy, "loss": row.loss, "seconds": row.seconds}[sort]
        return value is None, 0.0 if value is None else -value if sort == "accuracy" else float(value)

    rows = tuple(sorted(table.rows, key=place))
    if as_json:
        say_json(RunsTable(table.keys, rows))
        return
    if not rows:
        out.print("No runs yet: «attentive-lens train» begins one.")
        return
    shown = Table(Column("run", justify="right"), Column("plan", overflow="fold", min_width=12), box=None)
    for name in ("state", "best epoch", "accuracy", "95 %", "loss", "seconds"):
        shown.add_column(name, justify="right" if name != "state" else "left", no_wrap=True)
    for key in table.keys:
        shown.add_column(key, overflow="fold")
    for row in rows:
        accuracy = row.main_in_words or "–"
        loss = "–" if row.loss is None else f"{row.loss:.3f}".replace("-", "\u2212")
        within = "–" if row.low is None or row.high is None else f"{row.low * 100:.0f}–{row.high * 100:.0f}"
        best = f"{row.best_epoch} of {row.epochs}"
        settings = [row.settings.get(key, "–") for key in table.keys]
        shown.add_row(str(row.run), row.name, row.state, best, accuracy, within, loss, f"{row.seconds:.0f}", *settings)
    say_rows(shown, table.keys)


@app.command()
@reporting
def repeat(
    workspace: InWorkspace,
    of: Annotated[int | None, typer.Option("--of", metavar="RUN", help="Whose plan; it counts as the first.")] = None,
    plan: PlanFile = None,
    settings: Settings = None,
    times: Annotated[int, typer.Option(metavar="N", min=2, max=100, help="Runs in all.")] = 3,
    on: OnCluster = "",
    as_json: AsJson = False,
) -> None:
    """Train a plan with several seeds, one run after the other or on a cluster, and say how far apart they come to be.

    Runs of the plan that are there already count; a seed also decides which images are held out.
    """
    from attentive_lens.cli.training.planning import planned_in
    from attentive_lens.cli.training.serial import trainer
    from attentive_lens.desk.many.series import trained
    from attentive_lens.desk.results.comparing import seeds_left, spread

    place = Workspace.open(workspace)
    if of is not None and (plan is not None or settings):
        raise BadUsage("A run is repeated with its own plan", "only the seed changes", "Leave out --plan and --set")
    first = place.run(of).plan() if of is not None else planned_in(workspace, plan, settings)
    trained(place, [replace(first, seed=seed) for seed in seeds_left(place, first, times)], trainer(on))
    result = spread(place, first)
    if result is None:
        why = "fewer than two of its runs are done and have validation images"
        raise NotHere("There is no spread to tell", why, "Hold images out, or repeat it more often")
    if as_json:
        say_json(result)
    else:
        out.print(result.advice)


@app.command("bin")
@reporting
def bin_(
    workspace: InWorkspace,
    put: Annotated[int | None, typer.Option(metavar="RUN", help="Put a run into the bin.")] = None,
    restore: Annotated[int | None, typer.Option(metavar="RUN", help="Bring a run back.")] = None,
    empty: Annotated[bool, typer.Option("--empty", help="Remove all that is in it for good.")] = False,
    as_json: AsJson = False,
) -> None:
    """List the deleted runs; put one there, bring one back, or remove them for good."""
    from attentive_lens.cli.training.run_results import RunsInBin

    place = Workspace.open(workspace)
    if put is not None:
        place.delete_run(put)
    if restore is not None:
        place.restore_run(restore)
    before = place.deleted_runs()
    if empty:
        place.forget_deleted()
    left = place.deleted_runs()
    named = [() if run is None else (run,) for run in (put, restore)]
    result = RunsInBin(left, named[0], named[1], tuple(run for run in before if run not in left))
    if as_json:
        say_json(result)
        return
    for runs_, words in (
        (result.put, "put into the bin"),
        (result.restored, "back"),
        (result.removed, "gone for good"),
    ):
        if runs_:
            out.print(f"run{'s' if len(runs_) > 1 else ''} {', '.join(map(str, runs_))}: {words}")
    out.print(f"In the bin: {', '.join(map(str, left))}" if left else "The bin is empty.")


@app.command()
@reporting
def compare(
    workspace: InWorkspace,
    one: Annotated[int, typer.Argument(help="Number of a run, or as «3:spiny».", metavar="A", parser=run_number)],
    other: Annotated[int, typer.Argument(help="Number of another.", metavar="B", parser=run_number)],
    on: OnSet = "validation",
    as_json: AsJson = False,
) -> None:
    """Say what two runs differ in, how far apart they are, image by image too, and whether that is more than chance."""
    from attentive_lens.desk.requests.models import Score
    from attentive_lens.desk.results.comparing import compare as compared
    from attentive_lens.desk.tasks import carry_out
    from attentive_lens.scoring.paired import in_words

    check_set(on)
    result = compared(Workspace.open(workspace), one, other)
    with suppress(NotHere) if on == "validation" else nullcontext():  # a run without validation set has nothing to pair
        both = [watched(carry_out(Score(str(workspace), run, on)), f"scoring run {run}") for run in (one, other)]
        result = result.judged_on(*both)
    if as_json:
        say_json(result)
        return
    table = Table(Column("", no_wrap=True), f"run {one}", f"run {other}", box=None)
    pair = (result.one, result.other)
    table.add_row("plan", *(row.name for row in pair))
    table.add_row(f"{result.on} accuracy", *("–" if row.accuracy is None else f"{row.accuracy:.1%}" for row in pair))
    table.add_row(f"{result.on} loss", *("–" if row.loss is None else f"{row.loss:.3f}" for row in pair))
    table.add_row("best epoch", *(f"{row.best_epoch} of {row.epochs}" for row in pair))
    table.add_row("seconds", *(f"{row.seconds:.0f}" for row in pair))
    for row in result.differences:
        table.add_row(row.key, row.one if row.one is not None else "–", row.other if row.other is not None else "–")
    out.print(table)
    out.print(result.advice)
    for sentence in result.images_differ:
        out.print(sentence)
    if result.paired is not None:
        if result.on == "validation":
            out.print(in_words(result.paired, one, other))
        for each in result.paired.by_class:
            if each.fixed or each.broken:
                out.print(f"  {each.name}: {each.fixed} fixed, {each.broken} broken, {each.still_wrong} still wrong")
