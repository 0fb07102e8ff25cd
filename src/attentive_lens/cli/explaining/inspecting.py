"""The commands that look inside: filters of a layer, a base, neighbours of an image, changes tried on one."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import numpy as np
import typer
from rich.table import Table

from attentive_lens.cli.app import (
    AsJson,
    InWorkspace,
    OfRun,
    app,
    map_method_option,
    out_file,
    out_folder,
    run_number,
)
from attentive_lens.cli.explaining.explaining_results import ActivityTold, NumbersWritten
from attentive_lens.cli.explaining.labels import label_named
from attentive_lens.cli.speaking import fits, out, reporting, say_json, watched
from attentive_lens.core.values import in_words
from attentive_lens.desk.requests.activity import LayerActivity
from attentive_lens.desk.requests.inspecting import Layer, TryChanges
from attentive_lens.desk.requests.numbers import LayerNumbers, WriteWeights
from attentive_lens.desk.requests.subjects import FileImage, RunImage, Subject
from attentive_lens.errors import BadUsage
from attentive_lens.explaining.change_settings import CHANGE_SETTINGS
from attentive_lens.explaining.methods import MAP_METHODS

EVERY_LAYER = "all"
"""In place of a layer's name: the weights of all of them."""


@app.command()
@reporting
def layer(
    workspace: InWorkspace,
    run: OfRun,
    name: Annotated[str, typer.Argument(help="A layer with feature maps, as «convolution 2».", metavar="LAYER")],
    images: Annotated[
        int,
        typer.Option(
            metavar="N", min=1, help="Training images looked at, at most; of more, a part of every class is drawn."
        ),
    ] = 20_000,
    into: Annotated[Path, out_folder("Where pictures and arrays go.")] = Path("layer"),
    as_json: AsJson = False,
) -> None:
    """Show what a layer's filters look for: the training patches that excite each, and images made to excite them."""
    from attentive_lens.cli.explaining.pictures import write_layer
    from attentive_lens.desk.tasks import carry_out

    request = Layer(str(workspace), run, name, images=images)
    written = write_layer(watched(carry_out(request), "looking for patches"), into)
    if as_json:
        say_json(written)
        return
    looked, whole = written.images_looked_at, written.images_in_all
    out.print(f"{looked} of {whole} training images were looked at" + (", drawn from every class" * (looked < whole)))
    for key, place in (("patches", written.patches), ("synthetic", written.synthetic), ("arrays", written.arrays)):
        out.print(f"{key}: {place}")
    for number, classes in enumerate(written.speaks):
        out.print(f"  channel {number}: " + ", ".join(f"{effect.target} {effect.adds:+.2f}" for effect in classes))


@app.command()
@reporting
def activity(
    workspace: InWorkspace,
    run: OfRun,
    name: Annotated[str, typer.Argument(help="A layer, as «relu 2».", metavar="LAYER")],
    images: Annotated[int, typer.Option(metavar="N", min=1, help="Training images looked at, at most.")] = 1000,
    as_json: AsJson = False,
) -> None:
    """Tell how active a layer's channels are over the training images, by class, and which are never used."""
    from attentive_lens.desk.tasks import carry_out

    seen = watched(carry_out(LayerActivity(str(workspace), run, name, images)), "asking the layer")
    if as_json:
        mean = {
            label: tuple(value if value == value else None for value in row)
            for label, row in zip(seen.classes, seen.mean.tolist(), strict=True)
        }
        counted = (seen.layer, seen.images_looked_at, seen.images_in_all)
        bins = (tuple(seen.edges.tolist()), tuple(seen.counts.tolist()))
        say_json(ActivityTold(*counted, *bins, mean, tuple(seen.used.tolist())))
        return
    looked, whole = seen.images_looked_at, seen.images_in_all
    out.print(f"{looked} of {whole} training images were looked at" + (", drawn from every class" * (looked < whole)))
    out.print(f"values from {seen.edges[0]:.3g} to {seen.edges[-1]:.3g} (99% lie between)")
    out.print("used: in what part of the images the channel is above zero anywhere; then its mean by class")
    table = Table("channel", "used", *seen.classes, box=None)
    for channel, used in enumerate(seen.used.tolist()):
        table.add_row(str(channel), f"{used:.0%}", *(f"{value:.3g}" for value in seen.mean[:, channel]))
    if not fits(table):
        table = Table("channel", "used", "most active for", "mean", "least active for", "mean", box=None)
        for channel, used in enumerate(seen.used.tolist()):
            own = seen.mean[:, channel]
            ends = [(seen.classes[k], f"{own[k]:.3g}") for k in (int(np.nanargmax(own)), int(np.nanargmin(own)))]
            table.add_row(str(channel), f"{used:.0%}", *ends[0], *ends[1])
    out.print(table)


@app.command()
@reporting
def numbers(
    workspace: InWorkspace,
    run: OfRun,
    name: Annotated[str, typer.Argument(help="A layer, as «convolution 2»; all: every one of them.", metavar="LAYER")],
    array: Annotated[str, typer.Argument(help="One of its arrays; the largest if left out.", metavar="[ARRAY]")] = "",
    image: Annotated[
        int, typer.Option("--image", metavar="N", min=0, help="An image whose loss the gradient is of.")
    ] = 0,
    into: Annotated[
        Path | None,
        out_file("Write values, gradient and optimiser state here (NumPy .npz)."),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Show a layer's raw numbers: its weights, their gradient for an image, and what the optimiser remembers."""
    from attentive_lens.desk.results.exporting import write_numbers
    from attentive_lens.desk.tasks import carry_out

    if name == EVERY_LAYER:
        if into is None:
            raise BadUsage("All weights need a file", "they are too many to print", "Name it with --out")
        written = watched(carry_out(WriteWeights(str(workspace), run, str(into))), "writing weights")
        if as_json:
            say_json(written)
        else:
            out.print(f"{written.file}: {written.numbers:,} numbers in {written.arrays} arrays")
        return
    seen = watched(carry_out(LayerNumbers(str(workspace), run, name, array, image)), "reading the layer")
    file = write_numbers(seen, into) if into is not None else None
    slope = float(np.sqrt(np.mean(seen.gradient.astype(np.float64) ** 2))) if seen.gradient is not None else None
    result = NumbersWritten(
        seen.layer,
        seen.array,
        seen.arrays,
        seen.values.shape,
        float(seen.values.min()),
        float(seen.values.max()),
        seen.loss,
        slope,
        tuple(seen.optimiser),
        seen.epoch,
        file,
    )
    if as_json:
        say_json(result)
        return
    shape = "×".join(map(str, result.shape))
    out.print(f"{result.array} of {result.layer}: {shape}, from {result.least:.4g} to {result.greatest:.4g}")
    out.print(f"  its arrays: {', '.join(result.arrays)}")
    if result.loss is not None and result.gradient is not None:
        out.print(f"  image {image}: loss {result.loss:.4g}, root mean square of its gradient {result.gradient:.4g}")
    if result.optimiser:
        out.print(f"  the optimiser remembers after epoch {result.epoch}: {', '.join(result.optimiser)}")
    if file is not None:
        out.print(f"  all numbers are in {file}")


@app.command("try")
@reporting
def try_changes(
    places: Annotated[
        list[str],
        typer.Argument(
            metavar="[WORKSPACE RUN] IMAGE",
            help="A workspace, the number of a run and of an image; with --model, an image file.",
        ),
    ],
    changes: Annotated[
        list[str] | None,
        typer.Option("--change", metavar="CHANGE", help="As «cover row=0.85 column=0.15 side=0.3». May be repeated."),
    ] = None,
    smallest: Annotated[
        bool, typer.Option("--smallest", help="Look for the smallest square too; done anyway without a change.")
    ] = False,
    model: Annotated[
        Path | None, typer.Option("--model", metavar="FILE", help="Ask this model file, about an image file.")
    ] = None,
    label: Annotated[
        str | None,
        typer.Option("--for", metavar="LABEL", help="With --model: of several labels, the one that is asked about."),
    ] = None,
    method: Annotated[str, map_method_option("A map method by which the changed images are explained")] = "",
    into: Annotated[
        Path | None,
        out_folder("Write the changed images, and their maps, here."),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Try changes on an image and see the answer; find the smallest square whose covering changes it."""
    from attentive_lens.cli.explaining.pictures import write_tried
    from attentive_lens.desk.tasks import carry_out

    settings = tuple(in_words("--change", CHANGE_SETTINGS, words) for words in changes or [])
    maps_by = in_words("--method", MAP_METHODS, method) if method else None
    subject = _one_file(places, model, label_named(model, label)[0]) if model is not None else _one_image(places)
    request = TryChanges(subject, settings, smallest or not settings, maps_by)
    tried = watched(carry_out(request), "trying")
    if into is not None:
        write_tried(tried, into)
    if as_json:
        say_json(tried)
        return
    before, least = tried.before, tried.smallest_cover
    name = f"image {tried.image}" if tried.image is not None else tried.file
    out.print(f"{name}: said {before.predicted} ({before.probabilities[before.predicted]:.2f})")
    for words, after in zip(changes or [], tried.after, strict=True):
        out.print(f"  {words}: said {after.predicted} ({after.probabilities[after.predicted]:.2f})")
    if into is not None:
        out.print(f"  the changed images are in {into}")
    if least is None:
        return
    if least.pixels is None:
        which = "no square" if least.complete else "none of the squares tried"
        out.print(f"  covering {which} up to half the image changes the answer")
        return
    which = "the smallest" if least.complete else "a small"
    out.print(
        f"  {which} square whose covering changes it: {least.pixels} pixels, {least.row:.0%} down,"
        f" {least.column:.0%} across; then said {least.predicted}"
    )
    if not least.complete:
        out.print(f"  (none of {least.pixels - 1} pixels does; smaller ones were not all tried)")


def _one_file(places: list[str], model: Path, label: str) -> Subject:
    if len(places) != 1:
        raise BadUsage("try needs one image", "--model takes an image file", "Write «try --model FILE IMAGE»")
    return FileImage(places[0], str(model), label=label)


def _one_image(places: list[str]) -> Subject:
    if len(places) != 3:
        why = "it takes a workspace, a run and an image"
        raise BadUsage("try needs other words", why, "Write «try WORKSPACE RUN IMAGE», or «try --model FILE IMAGE»")
    for word in (places[1].partition(":")[0], places[2]):
        if not (word.isascii() and word.isdigit()):
            raise BadUsage(f"«{word}» is no number", "runs and images are named by their numbers", "See «score»")
    return RunImage(places[0], run_number(places[1]), int(places[2]))
