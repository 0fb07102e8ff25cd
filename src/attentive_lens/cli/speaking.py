"""What every command shares: progress on standard error, one object or readable text on standard output."""

from __future__ import annotations

import functools
import json
import sys
import tomllib
from collections.abc import Callable
from typing import Any, TypeVar

import typer
from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn, TimeRemainingColumn

from attentive_lens.errors import BadValue, LensError
from attentive_lens.plan.progress import Job
from attentive_lens.plan.progress import Progress as Step

T = TypeVar("T")

console = Console(stderr=True, markup=False, highlight=False)
out = Console(highlight=False, soft_wrap=True, markup=False)


def watched(job: Job[T], shown: str, note: Callable[[], str] = str) -> T:
    """Run a job to its end with a bar, the time gone and the time left; ``note`` adds a word at the end."""
    if not console.is_terminal:
        return _told(job, note)
    with Progress(
        TextColumn("{task.description}"),
        BarColumn(28),
        TextColumn("{task.percentage:>3.0f} %"),
        TimeElapsedColumn(),
        TextColumn("left"),
        TimeRemainingColumn(),
        TextColumn("{task.fields[note]}"),
        console=console,
        transient=True,
    ) as bars:
        bar = bars.add_task(shown, total=None, note="")
        stages: list[str] = []

        def show(step: Step) -> None:
            stage = step.doing.split(" ")[0]
            if stages[-1:] != [stage]:
                stages.append(stage)
                bars.reset(bar, total=step.total or None)
            bars.update(
                bar, completed=step.done, total=step.total or None, description=step.doing or shown, note=note()
            )

        return _stepped(job, show)


def _told(job: Job[T], note: Callable[[], str]) -> T:
    """Run a job to its end where there is no terminal: a line whenever it comes to something else."""
    told: list[str] = []

    def show(step: Step) -> None:
        if step.doing and told[-1:] != [step.doing]:
            told.append(step.doing)
            console.print(" · ".join(filter(None, (step.doing, note()))), soft_wrap=True)

    return _stepped(job, show)


def _stepped(job: Job[T], show: Callable[[Step], None]) -> T:
    """Run a job to its end, showing each step."""
    while True:
        try:
            step = next(job)
        except StopIteration as end:
            result: T = end.value
            return result
        show(step)


def say_json(value: dict[str, Any]) -> None:
    """One object, on one line."""
    sys.stdout.write(json.dumps(value, ensure_ascii=False) + "\n")
    sys.stdout.flush()


def reporting(command: Callable[..., None]) -> Callable[..., None]:
    """A command whose failures are said in one sentence, or as JSON, with exit code 1."""

    @functools.wraps(command)
    def run(*args: Any, **kwargs: Any) -> None:
        try:
            command(*args, **kwargs)
        except LensError as error:
            if kwargs.get("as_json"):
                say_json({"error": error.as_dict()})
            else:
                console.print(str(error), style="red", soft_wrap=True)
            raise typer.Exit(1) from None
        except KeyboardInterrupt:
            console.print("Stopped.")
            raise typer.Exit(1) from None
        except BrokenPipeError:
            raise typer.Exit(1) from None

    return run


def parsed(settings: list[str], example: str) -> dict[str, Any]:
    """``key=value`` words as TOML values; what is no TOML is text."""
    found: dict[str, Any] = {}
    for setting in settings:
        key, equals, value = setting.partition("=")
        if not equals:
            raise BadValue(f"«{setting}» says nothing", "it has no «=»", f"Write {example}")
        try:
            found[key.strip()] = tomllib.loads(f"value = {value}")["value"]
        except tomllib.TOMLDecodeError:
            found[key.strip()] = value.strip()
    return found
