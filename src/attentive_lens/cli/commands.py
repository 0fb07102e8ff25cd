"""The commands about runs and models, and the demo."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer
from rich.table import Table

from attentive_lens.cli.app import AsJson, InWorkspace, OfRun, app, printable
from attentive_lens.cli.speaking import out, reporting, say_json, watched
from attentive_lens.desk.cautions import caution_of_labels, caution_of_test, changed_since, judged_by_test
from attentive_lens.desk.front import RunReader, collection


@app.command()
@reporting
def demo(
    context: typer.Context,
    folder: Annotated[Path, typer.Argument(help="Where to make it.")] = Path("pollen-station"),
    images: Annotated[int, typer.Option(min=1, help="How many images.")] = 1800,
    seed: Annotated[int, typer.Option(min=0, help="Decides all of them.")] = 0,
    no_window: Annotated[
        bool, typer.Option("--no-window", help="Run the full example and write its pictures.")
    ] = False,
    epochs: Annotated[int, typer.Option(min=1, help="Epochs of the full example.")] = 20,
    as_json: AsJson = False,
) -> None:
    """Make the pollen station's workspace and open it."""
    if not (no_window or as_json) and (folder / "workspace.toml").exists():
        raise typer.Exit(context.obj["open_window"](str(folder)))
    from attentive_lens.desk.making import make_demo

    made = watched(make_demo(folder, images, seed), "making the pollen station")
    if not as_json:
        out.print(
            f"{made.workspace.folder}: {len(made.collection.rows)} images of {len(made.collection.classes)} types."
        )
    if no_window:
        from attentive_lens.cli.example import full_example

        told = full_example(made.workspace, epochs, quiet=as_json)
        if as_json:
            say_json(told)
        return
    if as_json:
        say_json({"workspace": str(made.workspace.folder), "images": len(made.collection.rows)})
        return
    raise typer.Exit(context.obj["open_window"](str(folder)))


@app.command()
@reporting
def train(
    workspace: InWorkspace,
    plan: Annotated[Path | None, typer.Option(help="Plan file (TOML); the default plan if left out.")] = None,
    settings: Annotated[
        list[str] | None,
        typer.Option("--set", help="Change a setting: training.epochs=5. May be repeated."),
    ] = None,
    resume: Annotated[int | None, typer.Option(help="Go on with this run, which was interrupted.")] = None,
    claimed: Annotated[int | None, typer.Option(hidden=True)] = None,
    go_on: Annotated[bool, typer.Option("--go-on", hidden=True)] = False,
    as_json: AsJson = False,
) -> None:
    """Train a plan, or go on with an interrupted run; Ctrl+C stops after the step at hand and keeps everything."""
    from attentive_lens.cli.training import train_here

    train_here(workspace, plan, settings or [], claimed, resume, go_on, as_json)


@app.command()
@reporting
def watch(
    workspace: InWorkspace,
    run: Annotated[int | None, typer.Argument(help="Number of the run; the latest if left out.")] = None,
    as_json: AsJson = False,
) -> None:
    """Say how far a run is."""
    from attentive_lens.errors import NotHere
    from attentive_lens.workspace import Workspace

    place = Workspace.open(workspace)
    if run is None and not place.runs():
        raise NotHere("There is nothing to watch", "the workspace has no runs yet", "Train first")
    view = RunReader(place.run(run) if run is not None else place.runs()[-1]).view()
    last = view.epochs[-1] if view.epochs else {}
    relabelled = changed_since(place.run(view.number), collection(place, place.run(view.number).plan()))
    if as_json:
        say_json(
            {
                "run": view.number,
                "state": view.state,
                "epochs": len(view.epochs),
                "last": last,
                "error": view.error,
                "relabelled": relabelled,
            }
        )
        return
    out.print(f"run {view.number} · {view.name} · {view.state} · epoch {len(view.epochs)} of {view.planned}")
    if view.error:
        out.print(view.error)
    for epoch in view.epochs:
        out.print(epoch_line(epoch))
    if relabelled:
        out.print(caution_of_labels(view.number, relabelled))


def epoch_line(epoch: dict[str, Any]) -> str:
    """One epoch in words and figures."""
    training, validation = epoch["training"], epoch["validation"]
    held = f" · validation {validation['accuracy']:.1%} loss {validation['loss']:.3f}" if validation else ""
    star = " · best so far" if epoch["best"] else ""
    return (
        f"epoch {epoch['epoch']:>3} · training {training['accuracy']:.1%} loss {training['loss']:.3f}{held}"
        f" · {epoch['seconds']:.1f} s{star}"
    )


@app.command()
@reporting
def score(
    workspace: InWorkspace,
    run: OfRun,
    on: Annotated[str, typer.Option(help="training, validation or test.")] = "validation",
    as_json: AsJson = False,
) -> None:
    """Score a run's best model on a set: accuracy, loss, confusion matrix, the wrong images."""
    from attentive_lens.desk import tasks
    from attentive_lens.plan.values import unknown_word
    from attentive_lens.workspace import Workspace

    if on not in ("training", "validation", "test"):
        raise unknown_word("set", on, frozenset({"training", "validation", "test"}))
    table = watched(tasks.score(str(workspace), run, on), "scoring").values
    found = tasks.as_scores(table)
    place = Workspace.open(workspace)
    now = collection(place, place.run(run).plan())
    relabelled, judged = changed_since(place.run(run), now), judged_by_test(place)
    files = {row.number: row.file for row in now.rows}
    wrong = [
        {
            "image": a.image,
            "file": printable(files[a.image]),
            "said": found.classes[a.said],
            "true": found.classes[a.true],
            "probability": a.probability,
        }
        for a in found.wrong
    ]
    if as_json:
        keys = ("on", "images", "accuracy", "loss", "classes", "per_class", "confusion")
        cautions = {"relabelled": relabelled, "judged_by_test": judged}
        say_json({"run": run, **{key: table[key] for key in keys}, "wrong": wrong, **cautions})
        return
    out.print(f"run {run} on {on}: {found.accuracy:.1%} of {len(found.answers)} images right, loss {found.loss:.3f}")
    matrix = Table("true \\ said", *found.classes, "right", box=None)
    for k, name in enumerate(found.classes):
        rate = found.per_class[k]
        matrix.add_row(name, *(str(n) for n in found.confusion[k]), "–" if rate is None else f"{rate:.1%}")
    out.print(matrix)
    for entry in wrong[:20]:
        out.print(
            f"  image {entry['image']}: said {entry['said']} ({entry['probability']:.2f}), true {entry['true']}"
            f" · {entry['file']}",
        )
    if len(wrong) > 20:
        out.print(f"  … and {len(wrong) - 20} more; --json lists all.")
    for caution in (caution_of_labels(run, relabelled), caution_of_test(judged) if on == "test" else ""):
        if caution:
            out.print(caution)


@app.command()
@reporting
def predict(
    model: Annotated[Path, typer.Argument(help="Model file (.alens).", metavar="MODEL")],
    images: Annotated[list[Path], typer.Argument(help="Image files, or folders of them.", metavar="IMAGE_OR_FOLDER")],
    as_json: AsJson = False,
) -> None:
    """Ask a model about new images."""
    from attentive_lens.desk import tasks
    from attentive_lens.desk.script import image_files

    answers = watched(tasks.predict(str(model), [str(f) for f in image_files(images)]), "answering").values["answers"]
    for answer in answers:
        answer["file"] = printable(answer["file"])
        if as_json:
            say_json(answer)
        elif "error" in answer:
            out.print(f"{answer['file']}: not read, {answer['error']}")
        else:
            out.print(f"{answer['file']}: {answer['said']} ({answer['probability']:.2f})")


@app.command()
@reporting
def measure(
    quick: Annotated[bool, typer.Option("--quick", help="Fewer shapes and samples: within a minute.")] = False,
    threads: Annotated[int, typer.Option(min=1, max=64, help="Cores used.")] = 2,
    kernels: Annotated[str, typer.Option(help="auto, gather or tiles.")] = "auto",
    as_json: AsJson = False,
) -> None:
    """Time the engine on this machine, as ratios to its matrix-product peak."""
    from attentive_lens.engine.kernels.choice import KERNELS
    from attentive_lens.engine.measuring import measure as measured
    from attentive_lens.plan.values import unknown_word

    if kernels not in KERNELS:
        raise unknown_word("kernels", kernels, frozenset(KERNELS))
    told = watched(measured(threads, quick, kernels), "measuring")
    if as_json:
        say_json(told)
        return
    low, high = (peak / 1e9 for peak in told["peak_range"])
    out.print(
        f"peak with {threads} threads: {told['peak_multiply_adds_per_second'] / 1e9:.0f} thousand million multiply-adds"
        f" a second ({low:.0f}–{high:.0f})"
    )
    table = Table("part of the peak", "median", "range", "samples", "dropped", "kernel", box=None)
    for figure in told["figures"]:
        span = f"{figure['low']:.2f}–{figure['high']:.2f}"
        counts = (str(figure["samples"]), str(figure["dropped"]))
        table.add_row(figure["what"], f"{figure['ratio']:.2f}", span, *counts, figure["kernel"])
    out.print(table)
    for name, memory in told["memory"].items():
        if memory:
            out.print(f"{name}: a step holds {memory['grown_mb']:.0f} MB, {memory['ratio']:.2f} of what it must hold")
