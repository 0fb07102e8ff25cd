"""The commands that explain: one image, and what all mistakes have in common."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from attentive_lens.cli.app import AsJson, InWorkspace, OfRun, app
from attentive_lens.cli.speaking import out, reporting, say_json, watched


@app.command()
@reporting
def explain(
    workspace: InWorkspace,
    run: OfRun,
    image: Annotated[int, typer.Argument(help="Number of the image, as «score» prints it.", metavar="IMAGE")],
    method: Annotated[
        str, typer.Option(help="One of the map methods; a wrong word lists them.")
    ] = "gradient_times_input",
    target: Annotated[str | None, typer.Option("--for", help="A class to explain besides said and true.")] = None,
    into: Annotated[Path, typer.Option("--out", help="Folder for the maps and pictures.")] = Path("explained"),
    trust: Annotated[bool, typer.Option("--trust", help="Measure whether the maps can be believed.")] = False,
    as_json: AsJson = False,
) -> None:
    """Show which pixels drove the answer that was said and the answer that is true."""
    from attentive_lens.cli.pictures import write_explanation, write_filters
    from attentive_lens.desk import tasks

    result = watched(tasks.explain(str(workspace), run, image, method, target), "explaining")
    told = write_explanation(result, into)
    if trust:
        told["measured"] = watched(tasks.trust(str(workspace), run, image, method), "measuring trust").values
    told["filters_picture"] = write_filters(watched(tasks.filters(str(workspace), run), "first filters"), into)
    if as_json:
        say_json(told)
        return
    true = f", true {told['true']} ({told['probabilities'][told['true']]:.2f})" if told["true"] else ""
    out.print(f"image {image}: said {told['said']} ({told['probabilities'][told['said']]:.2f}){true}")
    for entry in told["maps"]:
        t = entry["trust"]
        verdict = {True: "believable", False: "not to be believed", None: "cannot be told"}[t["passed"]]
        if t["empty"]:
            out.print(f"  the map for {entry['target']} is zero everywhere: nothing small changes this answer")
            continue
        out.print(
            f"  map for {entry['target']}: {entry['picture']}\n    deleting what it marks leaves"
            f" {t['marked_deleted']:.2f} of {t['before']:.2f}, at random {t['random_deleted']:.2f}: {verdict}",
        )
    if trust:
        _say_trust(told["measured"])
    out.print(f"  what each layer saw: {told['layers_picture']}")
    if told["filters_picture"]:
        out.print(f"  first-layer filters: {told['filters_picture']}")


def _say_trust(told: dict[str, Any]) -> None:
    """The measured figures, each beside its limit."""
    words = {True: "passed", False: "not passed", None: "cannot be told"}
    for key in ("said", "true"):
        own, bend = told[key + "_map"], told[key + "_map"]["curves"]
        out.print(
            f"  {key}: deletion {bend['deletion']:.2f} (below {bend['deletion_limit']:.2f}; edges"
            f" {bend['deletion_edges']:.2f}), insertion {bend['insertion']:.2f} (above {bend['insertion_limit']:.2f};"
            f" edges {bend['insertion_edges']:.2f}): {words[bend['passed']]}; under small noise {own['stability']:.2f}"
        )
        if "completeness_error" in own:
            out.print(f"    its parts add up to the score but for {own['completeness_error']:.2%}")
    anew = told["redrawn"]
    out.print(
        f"  with all weights drawn anew maps stay alike to {anew['everything']:.2f} (below {anew['limit']:.2f}):"
        f" {words[anew['passed']]}, on {anew['images']} images"
    )
    alike = ", ".join(f"{key} {value:.2f}" for key, value in sorted(told["agreement"].items(), key=lambda p: -p[1]))
    out.print(f"  likeness to other methods: {alike}")


@app.command()
@reporting
def causes(
    workspace: InWorkspace,
    run: OfRun,
    on: Annotated[str, typer.Option(help="training, validation or test.")] = "test",
    method: Annotated[str, typer.Option(help="The map method that mistakes are compared by.")] = "gradient_times_input",
    plan_out: Annotated[
        Path | None, typer.Option("--plan", help="Write the plan that should end the largest cause here.")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Group the mistakes of a run by what they rest on, each group with the remedy that fits."""
    from attentive_lens.desk import tasks

    told = watched(tasks.causes(str(workspace), run, on, method), "grouping mistakes").values
    plans = [group["plan"] for group in told["groups"] if group["plan"]]
    if plan_out is not None:
        _write_plan(plan_out, plans)
    if as_json:
        say_json(told)
        return
    out.print(f"run {run} on {on}: {told['mistakes']} mistakes in {len(told['groups'])} groups")
    for number, group in enumerate(told["groups"], 1):
        out.print(f"  {number}. {group['why']}")
        out.print(f"     {group['remedy']}")
        shown = ", ".join(map(str, group["images"][:12])) + (", …" if len(group["images"]) > 12 else "")
        out.print(f"     images {shown}")
    if plan_out is not None:
        out.print(f"The plan is in {plan_out}: train it with «train WORKSPACE --plan {plan_out}».")
    elif plans:
        out.print("With --plan FILE the remedy is written as a plan to train.")


def _write_plan(file: Path, plans: list[dict[str, Any]]) -> None:
    import tomlkit

    from attentive_lens.errors import BadFile, NotHere

    if not plans:
        raise NotHere(
            "There is no plan to write", "no group of mistakes rests on one place", "Follow the words instead"
        )
    try:
        file.write_text(tomlkit.dumps(plans[0]), "utf-8")
    except OSError as error:
        raise BadFile(f"{file} could not be written", str(error.strerror).lower(), "Name another file") from None


@app.command()
@reporting
def layer(
    workspace: InWorkspace,
    run: OfRun,
    name: Annotated[str, typer.Argument(help="A layer with feature maps, as «convolution 2».", metavar="LAYER")],
    into: Annotated[Path, typer.Option("--out", help="Folder for pictures and arrays.")] = Path("layer"),
    as_json: AsJson = False,
) -> None:
    """Show what a layer's filters look for: the training patches that excite each, and images made to excite them."""
    from attentive_lens.cli.pictures import write_layer
    from attentive_lens.desk import tasks

    told = write_layer(watched(tasks.layer(str(workspace), run, name), "looking for patches"), into)
    if as_json:
        say_json(told)
        return
    for key in ("patches", "synthetic", "arrays"):
        out.print(f"{key}: {told[key]}")
    for number, classes in enumerate(told["speaks"]):
        out.print(f"  channel {number}: " + ", ".join(f"{label} {value:+.2f}" for label, value in classes))


@app.command()
@reporting
def neighbours(
    workspace: InWorkspace,
    run: OfRun,
    image: Annotated[int, typer.Argument(help="Number of the image.", metavar="IMAGE")],
    name: Annotated[str, typer.Option("--layer", help="The last before the answers if left out.")] = "",
    table: Annotated[
        Path | None, typer.Option("--table", help="Write every training image's place (PCA, t-SNE) here, as CSV.")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """List the training images that a layer finds nearest to an image, of the class said and of the true one."""
    from attentive_lens.cli.pictures import write_places
    from attentive_lens.desk import tasks

    result = watched(
        tasks.neighbours(str(workspace), run, image, name, laid_out=table is not None), "looking for neighbours"
    )
    told = result.values
    if table is not None:
        write_places(result, table)
    if as_json:
        say_json({key: value for key, value in told.items() if key != "images"})
        return
    for key in ("said", "true"):
        near = ", ".join(f"{entry['image']} ({entry['distance']:.2f})" for entry in told["near"][key])
        out.print(f"nearest of {key}, {told['classes'][key]}, at {told['layer']}: {near}")


@app.command("try")
@reporting
def try_changes(
    workspace: InWorkspace,
    run: OfRun,
    image: Annotated[int, typer.Argument(help="Number of the image.", metavar="IMAGE")],
    changes: Annotated[
        list[str] | None,
        typer.Option("--change", help="As «cover row=0.85 column=0.15 side=0.3». May be repeated."),
    ] = None,
    smallest: Annotated[
        bool, typer.Option("--smallest", help="Look for the smallest square too; done anyway without a change.")
    ] = False,
    as_json: AsJson = False,
) -> None:
    """Try changes on an image and see the answer; find the smallest square whose covering changes it."""
    from attentive_lens.desk import tasks

    asked = [_change(words) for words in changes or []]
    told = watched(tasks.tried(str(workspace), run, image, asked, smallest or not asked), "trying").values
    if as_json:
        say_json(told)
        return
    before = told["before"]
    out.print(f"image {image}: said {before['said']} ({before['probabilities'][before['said']]:.2f})")
    for words, after in zip(changes or [], told["after"], strict=True):
        out.print(f"  {words}: said {after['said']} ({after['probabilities'][after['said']]:.2f})")
    least = told["smallest_cover"]
    if asked and not smallest:
        return
    if least is None:
        out.print("  covering no square up to half the image changes the answer")
    else:
        out.print(
            f"  smallest square whose covering changes it: {least['side']:.0%} of the side, {least['row']:.0%} down,"
            f" {least['column']:.0%} across; then said {least['said']}"
        )


def _change(words: str) -> dict[str, Any]:
    from attentive_lens.errors import BadValue

    kind, *settings = words.split()
    pairs = [setting.partition("=") for setting in settings]
    if any(not equals for _, equals, _ in pairs):
        raise BadValue("--change", f"«{words}» is not understood", "Write it as «cover row=0.8 column=0.2 side=0.3»")
    return {"change": kind, **{name: value for name, _, value in pairs}}


@app.command()
@reporting
def channel(
    workspace: InWorkspace,
    run: OfRun,
    image: Annotated[int, typer.Argument(help="Number of the image.", metavar="IMAGE")],
    name: Annotated[str, typer.Argument(help="A layer, as «relu 2».", metavar="LAYER")],
    number: Annotated[int, typer.Argument(min=0, help="Which channel, from 0.", metavar="CHANNEL")] = 0,
    as_json: AsJson = False,
) -> None:
    """Rank a layer's channels by what they add to said minus true, and turn one off and up to see the answer."""
    from attentive_lens.desk import tasks

    told = watched(tasks.channel(str(workspace), run, image, name, number), "asking the channels").values
    if as_json:
        say_json(told)
        return
    ranked = list(told["adds"].items())[:8]
    out.print(f"{name} adds to said − true: " + ", ".join(f"channel {k} {value:+.2f}" for k, value in ranked))
    for row in told["answers"]:
        best = sorted(row["probabilities"].items(), key=lambda pair: -pair[1])[:3]
        words = {1.0: "as it is", 0.0: "switched off", 0.5: "halved", 2.0: "doubled"}[row["factor"]]
        out.print(f"  channel {number} {words}: " + ", ".join(f"{label} {p:.2f}" for label, p in best))
