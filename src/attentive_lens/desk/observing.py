"""Telling whoever wants to know that something changed, without knowing who that is."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol, TypeVar

from attentive_lens.desk.requests.base import Request

R = TypeVar("R")


class Signal:
    """Calls to be made when something happens, in the order they were connected."""

    def __init__(self) -> None:
        self._calls: list[Callable[..., object]] = []

    def connect(self, call: Callable[..., object]) -> None:
        """From now on."""
        self._calls.append(call)

    def emit(self, *values: object) -> None:
        """Make the calls."""
        for call in list(self._calls):
            call(*values)


class Asks(Protocol):
    """Whoever has requests answered; see `window.asking.Asker.ask`."""

    def ask(
        self,
        request: Request[R],
        done: Callable[[R], None] | None,
        failed: Callable[[str], None] | None = None,
        priority: int = 5,
        scope: str = "",
    ) -> None:
        """``done`` gets the result, ``failed`` a sentence."""
