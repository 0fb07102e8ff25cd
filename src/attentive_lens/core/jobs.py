"""What a job says while it works.

A job is a generator that yields `Progress` and returns its result; it ends exactly once, as done, stopped
or failed. Every room may write jobs; the desk runs them.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable, Iterator
from dataclasses import dataclass, replace
from threading import get_ident
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
    so_far : object
        The result as far as it is, of the job's own kind; None where there is nothing to be seen yet.
    """

    done: int
    total: int
    doing: str = ""
    so_far: object = None


Job: TypeAlias = Generator[Progress, None, T]


class Stopped(BaseException):
    """Raised inside a job, at a place where it breathes, when somebody no longer wants its result."""


_breath: Callable[[], None] | None = None
_thread = 0


def breathe() -> None:
    """Called between pieces of long arithmetic: whoever runs the job may do what is more urgent, or end it.

    Only the thread that asked for it breathes; elsewhere this does nothing.
    """
    if _breath is not None and get_ident() == _thread:
        _breath()


def paced(items: Iterable[T], every: int = 256) -> Iterator[T]:
    """The same items, with a breath after every so many: for long loops of small work."""
    for number, item in enumerate(items, 1):
        yield item
        if number % every == 0:
            breathe()


def is_breathing() -> bool:
    """Whether `breathe` calls anybody from this thread."""
    return _breath is not None and get_ident() == _thread


def on_breath(call: Callable[[], None] | None) -> None:
    """Have something called whenever a job of this thread breathes: one call for the process, and none at first."""
    global _breath, _thread  # noqa: PLW0603  # the process's own
    _breath, _thread = call, get_ident()


def finish(job: Job[T]) -> T:
    """Step a job to its end and return its result."""
    while True:
        try:
            next(job)
        except StopIteration as end:
            result: Any = end.value
            return result  # type: ignore[no-any-return]


def inside(job: Job[T]) -> Job[T]:
    """A job as a part of another one: its progress, without what it has so far, which is not of the other's kind."""
    while True:
        try:
            summary = next(job)
        except StopIteration as end:
            result: Any = end.value
            return result  # type: ignore[no-any-return]
        yield replace(summary, so_far=None)
