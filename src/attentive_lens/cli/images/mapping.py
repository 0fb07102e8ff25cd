"""The command that lays a workspace's images out as a layer finds them alike."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from attentive_lens.cli.app import AsJson, InWorkspace, OfRun, app, out_file, printable
from attentive_lens.cli.results.answer_results import Mapped, MappedImage
from attentive_lens.cli.speaking import out, reporting, say_json, watched
from attentive_lens.core.numbering import place_of
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.requests.mapping import LAYOUTS, MapData

METHODS = {name.lower(): name for name in LAYOUTS}


@app.command("map")
@reporting
def map_data(
    workspace: InWorkspace,
    run: OfRun,
    layer: Annotated[
        str, typer.Option("--layer", metavar="LAYER", help="The last before the answers, or the codes, if left out.")
    ] = "",
    method: Annotated[str, typer.Option(metavar="WORD", help="t-sne or pca.")] = "t-sne",
    perplexity: Annotated[
        float, typer.Option(metavar="X", min=2, max=500, help="Neighbours an image has, about; for t-SNE.")
    ] = 30.0,
    seed: Annotated[int, typer.Option(metavar="N", min=0, help="Of the start; for t-SNE.")] = 0,
    most: Annotated[
        int, typer.Option(metavar="N", min=4, max=20_000, help="Images; of more, a part of every class is drawn.")
    ] = 5000,
    file: Annotated[
        Path | None,
        out_file("Write the places (.csv) or a picture (.png) there."),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Lay all images of the sets out in two dimensions, images that a layer finds alike near each other."""
    from attentive_lens.desk.tasks import carry_out
    from attentive_lens.workspace import Workspace

    if method.lower() not in METHODS:
        raise unknown_word("--method", method, frozenset(METHODS))
    if file is not None and file.suffix.lower() not in (".csv", ".png"):
        raise unknown_word("ending of --out", file.suffix or file.name, frozenset({".csv", ".png"}))
    request = MapData(str(workspace), run, layer, METHODS[method.lower()], seed, perplexity, most)
    result = watched(carry_out(request), "laying images out")
    place = Workspace.open(workspace)
    rows = collection(place, place.run(run).plan(), place.run(run))
    columns = zip(
        result.images.tolist(), result.true.tolist(), result.predicted.tolist(), result.places.tolist(), strict=True
    )
    names = result.classes
    images = tuple(
        MappedImage(
            number,
            printable(rows.rows[at].file),
            rows.sets[at],
            names[true],
            names[predicted] if predicted >= 0 else "",
            *where,
        )
        for (number, true, predicted, where) in columns
        for at in (place_of(number),)
    )
    summary = Mapped(result.layer, result.method, result.in_all, result.explained, images, str(file) if file else None)
    if file is not None:
        from attentive_lens.cli.images.map_files import write_map

        write_map(workspace, result, summary, file)
    if as_json:
        say_json(summary)
        return
    part = f"{len(images)} of {result.in_all}" if len(images) < result.in_all else f"{len(images)}"
    explained = ", ".join(f"{share:.1%}" for share in result.explained)
    out.print(
        f"{part} images laid out by {result.layer}, {result.method}"
        + (f"; the components explain {explained} of the variance" if explained else "")
    )
    for name in dict.fromkeys(each.set for each in images):
        of_set = [each for each in images if each.set == name]
        wrong = sum(each.predicted != each.true for each in of_set)
        out.print(f"  {name}: {len(of_set)} images" + (f", {wrong} answered wrongly" if result.answered else ""))
    if file is not None:
        out.print(f"written to {file}")
