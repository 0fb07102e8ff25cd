"""What every command shares: progress on standard error, one object or readable text on standard output."""

from __future__ import annotations

import functools
import json
import sys
import tomllib
from collections.abc import Callable, Collection, Iterator
from contextlib import contextmanager, suppress
from typing import Any, TypeVar

import typer
from rich.console import Console
from rich.measure import Measurement
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn, TimeRemainingColumn
from rich.table import Table
from rich.text import Text

from attentive_lens.core.files import shown, steerless
from attentive_lens.core.jobs import Job
from attentive_lens.core.jobs import Progress as Step
from attentive_lens.core.records import PlainTable, without_arrays
from attentive_lens.core.telling import Rows, Telling
from attentive_lens.errors import BadFile, BadUsage, BadValue, LensError

T = TypeVar("T")

STOPPED = 3
"""Exit code of a run that somebody stopped."""


class Patient(Console):
    """A console whose reader may go away: what cannot be shown stops nothing, and no word of a file steers it."""

    def render_str(self, text: str, **how: Any) -> Text:
        """As it may be shown, wherever it comes from: in a sentence or in a table's cell."""
        return super().render_str(steerless(text), **how)

    def on_broken_pipe(self) -> None:
        """Say no more."""
        self.quiet = True


console = Patient(stderr=True, markup=False, highlight=False)
out = Patient(highlight=False, soft_wrap=True, markup=False)


def watched(job: Job[T], shown: str, news: Callable[[], list[str]] = list) -> T:
    """Run a job to its end with a bar, the time gone and the time left; ``news`` gives lines to print above it."""
    if not console.is_terminal:
        return _told(job, news)
    with Progress(
        TextColumn("{task.description}"),
        BarColumn(28),
        TextColumn("{task.percentage:>3.0f} %"),
        TimeElapsedColumn(),
        TextColumn("left"),
        TimeRemainingColumn(),
        console=console,
        transient=True,
    ) as bars:
        bar = bars.add_task(shown, total=None)
        stages: list[str] = []

        def show(step: Step) -> None:
            stage = step.doing.split(" ")[0]
            if stages[-1:] != [stage]:
                stages.append(stage)
                bars.reset(bar, total=step.total or None)
            bars.update(bar, completed=step.done, total=step.total or None, description=step.doing or shown)

        return _stepped(job, show, news, bars.console)


def _told(job: Job[T], news: Callable[[], list[str]]) -> T:
    """Run a job to its end where there is no terminal: a line whenever it comes to something else, and its news."""
    stages: list[str] = []

    def show(step: Step) -> None:
        stage = step.doing.split(" ")[0]
        if stage and stages[-1:] != [stage]:
            stages.append(stage)
            console.print(step.doing, soft_wrap=True)

    return _stepped(job, show, news, console)


def _stepped(job: Job[T], show: Callable[[Step], None], news: Callable[[], list[str]], to: Console) -> T:
    """Run a job to its end, showing each step and printing what is new after it."""
    while True:
        try:
            step = next(job)
        except StopIteration as end:
            result: T = end.value
            _say_news(news, to)
            return result
        _say_news(news, to)
        with suppress(OSError, ValueError):
            show(step)


def _say_news(news: Callable[[], list[str]], to: Console) -> None:
    """Print what is new; a line that cannot be shown is no reason to stop what it tells of."""
    with suppress(OSError, ValueError):
        for line in news():
            to.print(line, soft_wrap=True)


def fits(table: Table) -> bool:
    """Whether the terminal is wide enough for a table's words."""
    return _width(table).minimum <= out.width


def _width(table: Table) -> Measurement:
    """How wide it is, however wide the terminal."""
    return Measurement.get(out, out.options.update(max_width=100_000), table)


def say_rows(table: Table, columns: Collection[str]) -> None:
    """Print a table; where it is too wide, what stands in some columns goes below, a line for each row.

    A line begins with the row's first cell; empty cells are left out.
    """
    if _width(table).maximum <= out.width:
        out.print(table)
        return
    left = [column for column in table.columns if column.header in columns]
    first = [str(cell) for cell in table.columns[0].cells]
    lines = [[(str(column.header), str(cell)) for cell in column.cells] for column in left]
    table.columns = [column for column in table.columns if column not in left]
    out.print(table)
    for place, name in enumerate(first):
        words = [f"{key} {cell}" for key, cell in (line[place] for line in lines) if cell not in ("", "–")]
        if words:
            out.print(f"{name}: {', '.join(words)}")


def say(result: Telling) -> None:
    """Print what a result says of itself."""
    for words in result.words():
        if isinstance(words, Rows):
            table = Table(*words.heads, box=None)
            for row in words.cells:
                table.add_row(*row)
            out.print(table)
        else:
            out.print(words)


def say_json(result: Any) -> None:
    """A result of `cli.schemas.results_by_command`, its arrays left out, as one object on one line."""
    if sys.stdout is not None:
        line = json.dumps(without_arrays(result), ensure_ascii=False, allow_nan=False) + "\n"
        sys.stdout.write(line.encode("utf-8", "backslashreplace").decode())
        sys.stdout.flush()


def say_error(error: LensError, as_json: bool) -> None:
    """One sentence on standard error, or one object on standard output."""
    if as_json:
        say_json({"error": error.as_dict()})
    else:
        console.print(shown(str(error)), style="red", soft_wrap=True)


@contextmanager
def from_words() -> Iterator[None]:
    """Settings given as words of the command: one that is wrong is wrong usage."""
    try:
        yield
    except BadValue as error:
        raise BadUsage(error.what, error.why, error.remedy) from None


def reporting(command: Callable[..., None]) -> Callable[..., None]:
    """A command whose failures are said in one sentence, or as JSON, with exit code 1, or 2 for wrong usage."""

    @functools.wraps(command)
    def run(*args: Any, **kwargs: Any) -> None:
        try:
            command(*args, **kwargs)
        except LensError as error:
            say_error(error, bool(kwargs.get("as_json")))
            raise typer.Exit(2 if isinstance(error, BadUsage) else 1) from None
        except KeyboardInterrupt:
            console.print("Stopped.")
            raise typer.Exit(1) from None
        except BrokenPipeError:
            raise typer.Exit(1) from None
        except OSError as error:
            what = f"{error.filename or 'A file'} could not be used"
            fault = BadFile(what, str(error.strerror or error).lower(), "Check the path and the room on the disk")
            say_error(fault, bool(kwargs.get("as_json")))
            raise typer.Exit(1) from None

    return run


def parsed(settings: list[str], example: str) -> PlainTable:
    """``key=value`` words as TOML values; what is no TOML is text."""
    values: PlainTable = {}
    for setting in settings:
        key, equals, value = setting.partition("=")
        if not equals:
            raise BadUsage(f"«{setting}» says nothing", "it has no «=»", f"Write {example}")
        try:
            values[key.strip()] = tomllib.loads(f"value = {value}")["value"]
        except (ValueError, RecursionError):
            values[key.strip()] = value.strip()
    return values
