"""The application all commands belong to, and what several of them use."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Any

import typer

from attentive_lens.cli.overview import AskVersion, empty
from attentive_lens.cli.speaking import out
from attentive_lens.core.files import check_folder_of, shown
from attentive_lens.core.numbering import RunNumber
from attentive_lens.core.values import unknown_word
from attentive_lens.core.version import VERSION

app = empty()
"""Where every module puts its commands."""


def application(names: Sequence[str]) -> typer.Typer:
    """With these commands alone, in this order: typer works out what each takes anew for every call."""
    chosen = empty()
    chosen.registered_callback = app.registered_callback
    commands = {
        own.name or getattr(own.callback, "__name__", "").replace("_", "-"): own for own in app.registered_commands
    }
    chosen.registered_commands = [commands[name] for name in names if name in commands]
    chosen.registered_groups = [own for own in app.registered_groups if own.name in names]
    return chosen


AsJson = Annotated[bool, typer.Option("--json", help="Print one JSON object instead of text.")]
InWorkspace = Annotated[Path, typer.Argument(help="Folder of the workspace.", metavar="WORKSPACE")]


def run_number(words: str | int) -> RunNumber:
    """A run as it is named: «3», or «3:spiny» about one of its labels.

    Raises
    ------
    typer.BadParameter
        If it is none.
    """
    number = str(words).partition(":")[0]
    if not (number.isascii() and number.isdigit()):
        raise typer.BadParameter(f"{words!r} is no number of a run, nor one with a label, as 3:spiny")
    return RunNumber.read(str(words))


OfRun = Annotated[
    int,
    typer.Argument(
        help="Number of the run; «3:spiny» asks run 3 about one of its several labels.",
        metavar="RUN",
        parser=run_number,
    ),
]
PlanFile = Annotated[Path | None, typer.Option("--plan", metavar="FILE", help="Plan to read; the default if left out.")]
Settings = Annotated[
    list[str] | None,
    typer.Option(
        "--set", metavar="KEY=VALUE", help="Change a setting: training.epochs=5; «plan keys» lists all. Repeatable."
    ),
]
OnSet = Annotated[str, typer.Option("--on", metavar="SET", help="training, validation or test.")]
OnCluster = Annotated[str, typer.Option("--on", metavar="ADDRESS", help="Train on a Dask cluster: dask://HOST:PORT.")]
SETS = frozenset({"training", "validation", "test"})


def checked_out(place: Path | None) -> Path | None:
    """Where results are to go, refused before any work is done if no folder is there to take them."""
    if place is not None:
        check_folder_of(place)
    return place


def out_file(words: str) -> Any:
    """The option that names the file for results."""
    return typer.Option("--out", callback=checked_out, metavar="FILE", help=words)


def out_folder(words: str) -> Any:
    """The option that names the folder for results, which is made in one that is there."""
    return typer.Option("--out", callback=checked_out, metavar="FOLDER", help=words)


def map_method_option(words: str) -> Any:
    """The option that names a map method, with its settings."""
    more = '; with its settings, as «class_activation layer="relu 2"». A wrong word lists them.'
    return typer.Option("--method", metavar="METHOD", help=words + more)


@app.callback(invoke_without_command=True)
def _options(version: AskVersion = False) -> None:
    if version:
        out.print(VERSION)
        raise typer.Exit


def rows_of(workspace: Path) -> list[Any]:
    """The catalogue's images."""
    from attentive_lens.workspace import Workspace

    return Workspace.open(workspace).catalogue.images()


def check_set(word: str) -> None:
    """Refuse a word that is no set's name."""
    if word not in SETS:
        raise unknown_word("set", word, SETS)


def printable(file: str) -> str:
    """A file name that can be printed: bytes that are no text, and control characters, are shown as escapes."""
    return shown(file)
