"""The commands about runs and models, and the demo."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Annotated

import typer

from attentive_lens.cli.app import AsJson, InWorkspace, PlanFile, Settings, app
from attentive_lens.cli.example_results import DemoMade
from attentive_lens.cli.speaking import STOPPED, console, out, reporting, say_json, watched
from attentive_lens.cli.training.run_results import RunWatched
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.training.advising import advice_of
from attentive_lens.desk.training.cautions import caution_of_labels, changed_since
from attentive_lens.workspace import is_workspace

WATCH_SECONDS = 0.4


@app.command()
@reporting
def demo(
    context: typer.Context,
    folder: Annotated[Path, typer.Argument(metavar="[FOLDER]", help="Where to make it.")] = Path("pollen-station"),
    images: Annotated[int, typer.Option(metavar="N", min=1, help="How many images.")] = 1800,
    seed: Annotated[int, typer.Option(metavar="N", min=0, help="Decides all of them.")] = 0,
    no_window: Annotated[
        bool, typer.Option("--no-window", help="Run the full example and write its pictures.")
    ] = False,
    epochs: Annotated[int, typer.Option(metavar="N", min=1, help="Epochs of the full example.")] = 20,
    collection_name: Annotated[
        str,
        typer.Option(
            "--collection",
            metavar="WORD",
            help="grains, one an image; or fields, views with several, which have several labels.",
        ),
    ] = "grains",
    as_json: AsJson = False,
) -> None:
    """Make the pollen station's workspace and open it."""
    if not (no_window or as_json) and is_workspace(folder):
        raise typer.Exit(context.obj["open_window"](str(folder)))
    from attentive_lens.desk.making import make_demo

    demo_workspace = watched(make_demo(folder, images, seed, collection_name), "making the pollen station")
    if not as_json:
        images_of = demo_workspace.collection
        kinds = "types" if collection_name == "grains" else "sets of types"
        out.print(
            f"{demo_workspace.workspace.folder}: {len(images_of.rows)} images of {len(images_of.classes)} {kinds}."
        )
    if no_window and collection_name == "grains":
        from attentive_lens.cli.example import full_example

        example = full_example(demo_workspace.workspace, epochs, quiet=as_json)
        if as_json:
            say_json(example)
        if example.train is not None and example.train.state == "stopped":
            raise typer.Exit(STOPPED)
        return
    if as_json:
        say_json(DemoMade(str(demo_workspace.workspace.folder), len(demo_workspace.collection.rows)))
        return
    if not no_window:
        raise typer.Exit(context.obj["open_window"](str(folder)))


@app.command()
@reporting
def train(
    workspace: InWorkspace,
    plan: PlanFile = None,
    settings: Settings = None,
    resume: Annotated[int | None, typer.Option(metavar="RUN", help="Resume this run, which was interrupted.")] = None,
    queue: Annotated[
        bool, typer.Option("--queue", help="Let it wait until the runs before it have ended, and leave.")
    ] = False,
    claimed: Annotated[int | None, typer.Option(hidden=True)] = None,
    go_on: Annotated[bool, typer.Option("--go-on", hidden=True)] = False,
    lock: Annotated[int | None, typer.Option(hidden=True)] = None,
    until: Annotated[int, typer.Option(hidden=True)] = 0,
    threads: Annotated[int, typer.Option(hidden=True)] = 0,
    as_json: AsJson = False,
) -> None:
    """Train a plan, or go on with an interrupted run; Ctrl+C stops after the step at hand and keeps everything.

    A run that was stopped ends with exit code 3; a second Ctrl+C ends at once, with what the last checkpoint holds.
    """
    from attentive_lens.cli.training.running import Which, queue_here, train_here
    from attentive_lens.desk.training.executing import Launch

    if queue:
        queue_here(workspace, plan, settings or [], resume, as_json)
        return
    which = Which(plan, settings or [], claimed, resume, go_on)
    train_here(workspace, which, Launch(lock=lock, until=until, threads=threads), as_json)


@app.command()
@reporting
def watch(
    workspace: InWorkspace,
    run: Annotated[
        int | None, typer.Argument(metavar="[RUN]", help="Number of the run; the latest if left out.")
    ] = None,
    once: Annotated[bool, typer.Option("--once", help="Say how far it is and leave, instead of following it.")] = False,
    as_json: AsJson = False,
) -> None:
    """Follow a run, an epoch a line, until it ends; Ctrl+C ends the watching, not the run."""
    from attentive_lens.cli.training.running import NewEpochs
    from attentive_lens.errors import NotHere
    from attentive_lens.training.journal import damaged_lines
    from attentive_lens.workspace import Workspace

    place = Workspace.open(workspace)
    if run is None and not place.runs():
        raise NotHere("There is nothing to watch", "the workspace has no runs yet", "Train first")
    epochs = NewEpochs(place.run(run) if run is not None else place.runs()[-1])
    to = console if as_json else out
    if epochs.view.loss_function:
        view = epochs.view
        to.print(f"run {view.number} · {view.name} · {view.planned} epochs · loss: {view.loss_function}")
    while True:
        for line in epochs.lines():
            to.print(line)
        if once or epochs.view.state != "training":
            break
        time.sleep(WATCH_SECONDS)
    view = epochs.view
    torn = damaged_lines(place.run(view.number).journal)
    relabelled = changed_since(place.run(view.number), collection(place, place.run(view.number).plan()))
    if as_json:
        last = view.epochs[-1] if view.epochs else None
        epochs_done, relabelled_told = len(view.epochs), tuple(relabelled)
        say_json(
            RunWatched(
                view.number, view.state, epochs_done, last, view.loss_function, view.error, torn, relabelled_told
            )
        )
        return
    out.print(f"run {view.number} · {view.name} · {view.state} · epoch {len(view.epochs)} of {view.planned}")
    if view.error:
        out.print(view.error)
    if view.reason:
        out.print(f"ended by {view.reason}")
    if torn:
        out.print(f"{torn} damaged lines of its journal were passed over.")
    if relabelled:
        out.print(caution_of_labels(view.number, relabelled))
    for finding in advice_of(place, place.run(view.number), view):
        out.print(finding.sentence)
