"""The command that writes a run's report."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from attentive_lens.cli.app import AsJson, InWorkspace, OfRun, OnSet, app, check_set, out_file
from attentive_lens.cli.speaking import out, reporting, say_json, watched
from attentive_lens.desk.requests.reporting import WriteReport


@app.command()
@reporting
def report(
    workspace: InWorkspace,
    run: OfRun,
    file: Annotated[
        Path | None,
        out_file("Where it goes; report-RUN.html here if left out."),
    ] = None,
    on: OnSet = "validation",
    mistakes: Annotated[
        int, typer.Option(metavar="N", min=0, max=100, help="The surest mistakes that are shown with their maps.")
    ] = 8,
    causes: Annotated[
        bool, typer.Option("--causes/--no-causes", help="Whether to look for what all mistakes come from.")
    ] = True,
    as_json: AsJson = False,
) -> None:
    """Write a run's report: one HTML file with plan, curves, scores, mistakes, causes and cases."""
    from attentive_lens.desk.tasks import carry_out

    check_set(on)
    into = file or Path(f"report-{run}.html")
    told = watched(carry_out(WriteReport(str(workspace), run, str(into), on, mistakes, causes)), "writing the report")
    if as_json:
        say_json(told)
    else:
        held = f"{told.mistakes} mistakes, {told.causes} causes, {told.cases} cases"
        out.print(f"{told.file}: {held}, {told.bytes / 1e6:.1f} MB")
