"""An endpoint as the table has it."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from attentive_lens.serving.served import Served


@dataclass(frozen=True)
class Query:
    """A word behind the «?» of a path."""

    name: str
    meaning: str


@dataclass(frozen=True)
class Endpoint:
    """What is answered under a path.

    Attributes
    ----------
    path, method : str
    summary : str
        In one line.
    answer : callable
        What answers, a method of `Served`.
    result : type or None
        The class of the JSON object it answers with.
    media : str
        Of the answer.
    takes_images : bool
    is_open : bool
        Whether it needs no token.
    query : tuple of Query
    """

    path: str
    method: str
    summary: str
    answer: Callable[[Served, Request], Awaitable[Response]]
    result: type[Any] | None = None
    media: str = "application/json"
    takes_images: bool = False
    is_open: bool = False
    query: tuple[Query, ...] = ()
