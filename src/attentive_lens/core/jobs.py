"""What a job says while it works.

A job is a generator that yields `Progress` and returns its result; it ends exactly once, as done, stopped
or failed. Every room may write jobs; the desk runs them.
"""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import dataclass
from typing import Any, TypeAlias, TypeVar

T = TypeVar("T")


@dataclass(frozen=True)
class Progress:
    """How far a job has come.

    Attributes
    ----------
    done, total : int
        Steps done and steps in all; a total of 0 means it is not known.
    doing : str
        What is being done, for the bottom strip.
    """

    done: int
    total: int
    doing: str = ""


Job: TypeAlias = Generator[Progress, None, T]


class Stopped(BaseException):
    """Raised inside a job, at a place where it breathes, when somebody no longer wants its result."""


_breath: Callable[[], None] | None = None


def breathe() -> None:
    """Called between pieces of long arithmetic: whoever runs the job may do what is more urgent, or end it."""
    if _breath is not None:
        _breath()


def on_breath(call: Callable[[], None] | None) -> None:
    """Have something called whenever a job breathes; one process has one such call, and none at first."""
    global _breath  # noqa: PLW0603  # the process's own
    _breath = call


def finish(job: Job[T]) -> T:
    """Step a job to its end and return its result."""
    while True:
        try:
            next(job)
        except StopIteration as end:
            result: Any = end.value
            return result  # type: ignore[no-any-return]
