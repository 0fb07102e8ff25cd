"""The command that tells how much worse a model does on worse pictures."""

from __future__ import annotations

from typing import Annotated

import typer
from rich.table import Table

from attentive_lens.cli.app import AsJson, InWorkspace, OfRun, OnSet, app, check_set
from attentive_lens.cli.scoring import percent
from attentive_lens.cli.speaking import out, reporting, say_json, watched
from attentive_lens.desk.requests.robustness import MeasureRobustness


@app.command()
@reporting
def robustness(
    workspace: InWorkspace,
    run: OfRun,
    on: OnSet = "validation",
    ways: Annotated[
        list[str] | None,
        typer.Option(
            "--way",
            metavar="WORD",
            help="blur, noise, darker, brighter, contrast, rotation, shift or JPEG; all if left out. Repeatable.",
        ),
    ] = None,
    most: Annotated[
        int, typer.Option(metavar="N", min=1, help="Images; of more, a part of every class is drawn.")
    ] = 500,
    as_json: AsJson = False,
) -> None:
    """Make a set's pictures worse, grade by grade, and tell how many answers stay right and which break."""
    from attentive_lens.desk.tasks import carry_out

    check_set(on)
    request = MeasureRobustness(str(workspace), run, on, tuple(ways or ()), most)
    found = watched(carry_out(request), "making pictures worse")
    if as_json:
        say_json(found)
        return
    drawn = f" of {found.in_all}" if found.images < found.in_all else ""
    out.print(f"run {run} on {found.images}{drawn} {on} images as they are: {percent(found.right)} right")
    table = Table("", "grade", "right", "broken", box=None)
    for way in found.ways:
        for grade in way.grades:
            first = grade is way.grades[0]
            shown = f"{grade.grade:g} {way.unit}".strip()
            table.add_row(way.what if first else "", shown, percent(grade.right), str(len(grade.broken)))
    out.print(table)
