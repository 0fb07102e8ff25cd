"""The command about the case book: cases opened, told about, tried again with every run."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.table import Table

from attentive_lens.cli.app import AsJson, InWorkspace, app, run_number
from attentive_lens.cli.speaking import out, reporting, say_json, watched
from attentive_lens.core.numbering import place_of
from attentive_lens.desk.requests.cases import CasesTried, TryCases
from attentive_lens.desk.requests.models import Score
from attentive_lens.errors import BadUsage, LensError, NotHere

if TYPE_CHECKING:
    from attentive_lens.desk.explaining.casebook import OpenCases


@app.command()
@reporting
def cases(
    workspace: InWorkspace,
    image: Annotated[int | None, typer.Option("--open", metavar="IMAGE", help="Open a case of this image.")] = None,
    run: Annotated[
        int | None, typer.Option("--run", metavar="RUN", parser=run_number, help="The run that answers it.")
    ] = None,
    case: Annotated[int | None, typer.Option("--case", metavar="N", help="The case that is told about.")] = None,
    cause: Annotated[str | None, typer.Option(metavar="TEXT", help="Its cause; a new one is listed.")] = None,
    note: Annotated[str | None, typer.Option(metavar="TEXT", help="What there is to say of it.")] = None,
    remedy: Annotated[str | None, typer.Option(metavar="TEXT", help="What was done about it.")] = None,
    close: Annotated[bool | None, typer.Option("--close/--reopen", help="Whether one is done with it.")] = None,
    delete: Annotated[bool, typer.Option("--delete", help="Take the case out of the book.")] = False,
    as_json: AsJson = False,
) -> None:
    """List all cases with what became of them in later runs; open one, or say its cause, note and remedy."""
    from attentive_lens.desk.tasks import carry_out

    if image is not None and run is None:
        raise BadUsage("No case was opened", "a case belongs to a run's answer", "Name the run with --run")
    fields = {
        name: value for name, value in (("cause", cause), ("note", note), ("remedy", remedy)) if value is not None
    }
    if (fields or close is not None or delete) and case is None and image is None:
        raise BadUsage("Nothing was changed", "no case is named", "Name it with --case, or open one with --open")
    if image is not None and run is not None:
        case = _opened(workspace, image, run)
    if case is not None:
        _change(workspace, case, fields, close, delete)
    result = watched(carry_out(TryCases(str(workspace))), "trying the cases again")
    if as_json:
        say_json(result)
    else:
        _say(result)


def _opened(workspace: Path, image: int, run: int) -> int:
    """The number of an image's case, opened if there is none."""
    from attentive_lens.desk.images.collection import collection
    from attentive_lens.desk.tasks import carry_out
    from attentive_lens.workspace import Workspace

    place = Workspace.open(workspace)
    rows = collection(place, place.run(run).plan(), place.run(run))
    if not 1 <= image <= len(rows.rows):
        raise NotHere(f"There is no image {image}", f"images are numbered 1 to {len(rows.rows)}", "Choose one of these")
    on = rows.sets[place_of(image)]
    if on not in ("training", "validation", "test"):
        raise NotHere(f"Run {run} does not answer image {image}", f"it is {on}", "Choose an image of a set")
    scores = watched(carry_out(Score(str(workspace), run, on)), "scoring")
    answer = next((a for a in scores.answers if a.image == image), None)
    if answer is None:
        raise NotHere(f"Run {run} does not answer image {image}", "it does not know its class", "Train again")
    book = _book(workspace)
    opened = book.open_case(image, run, scores.classes[answer.predicted], scores.classes[answer.true])
    return opened.number if opened is not None else 0


def _book(workspace: Path) -> OpenCases:
    from attentive_lens.desk.explaining.casebook import OpenCases
    from attentive_lens.workspace import Workspace

    place = Workspace.open(workspace)
    place.check_writable("The case book was not changed")
    book = OpenCases(place)
    book.message.connect(_refuse)
    return book


def _refuse(sentence: str, bad: bool) -> None:
    if bad:
        raise LensError("The case book was not changed", sentence, "See above")


def _change(workspace: Path, number: int, fields: dict[str, str], close: bool | None, delete: bool) -> None:
    if not (fields or close is not None or delete):
        return
    book = _book(workspace)
    before = book.book.case(number)
    if delete:
        book.delete(number)
        return
    after = replace(before, **fields, closed=before.closed if close is None else close)  # type: ignore[arg-type]
    book.change(after, f"changing case {number}")


def _say(result: CasesTried) -> None:
    if not result.cases:
        out.print("The case book is empty. Open a case: attentive-lens cases WORKSPACE --open IMAGE --run RUN")
        return
    table = Table("case", "image", "said", "true", "cause", "status", "", box=None)
    for each in result.cases:
        case = each.case
        done = "closed" if case.closed else ""
        table.add_row(
            str(case.number), str(case.image), case.predicted, each.label or "–", case.cause, each.status, done
        )
        table.add_row("", "", "", "", "", each.words)
        if case.note:
            table.add_row("", "", "", "", "", case.note)
    out.print(table)
    out.print("by status: " + ", ".join(f"{word} {count}" for word, count in result.by_status.items()))
    out.print("by cause: " + ", ".join(f"{word} {count}" for word, count in result.by_cause.items()))
