"""What goes between the window and its worker, one JSON object a line."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from typing import TypeVar

from attentive_lens.core.records import PlainTable, from_plain
from attentive_lens.errors import BadFile, BadUsage, BadValue, LensError, NotHere

W = TypeVar("W", "Message", "Answer")


@dataclass(frozen=True)
class Message:
    """A request for the worker, or word to give one up.

    Attributes
    ----------
    id : int
        Number of the request.
    request : str
        Name of its class, a key of `REQUESTS`.
    values : dict
        Its fields.
    priority : int
        Lower ones come first.
    scope : str
        A newer request in it ends the older ones; empty for none.
    stop : bool
        Whether the request of that number is to be given up.
    """

    id: int
    request: str = ""
    values: PlainTable = field(default_factory=dict)
    priority: int = 5
    scope: str = ""
    stop: bool = False


@dataclass(frozen=True)
class Answer:
    """What the worker says of a request: how far it is, or one of the ends.

    Attributes
    ----------
    id : int
        Number of the request.
    progress : tuple or None
        Steps done, in all, and what is being done.
    result : dict or None
        Fields of the result, the arrays being numbers; with progress, of the result as far as it is.
    arrays : tuple of str
        Files with the result's arrays, by those numbers.
    error : dict or None
        Kind, what, why, what to do.
    stopped : bool
        Whether it was given up.
    """

    id: int
    progress: tuple[int, int, str] | None = None
    result: PlainTable | None = None
    arrays: tuple[str, ...] = ()
    error: dict[str, str] | None = None
    stopped: bool = False


ERRORS = {kind.__name__: kind for kind in (LensError, BadFile, BadValue, BadUsage, NotHere)}


def written_error(error: LensError) -> dict[str, str]:
    """As an answer has it, with its class."""
    return {"kind": next(kind.__name__ for kind in type(error).__mro__ if kind.__name__ in ERRORS), **error.as_dict()}


def read_error(table: Mapping[str, str]) -> LensError:
    """What `written_error` wrote: of the same class."""
    return ERRORS[table["kind"]](table["what"], table["why"], table["remedy"])


def line(message: Message | Answer) -> bytes:
    """As it is sent; what is as usual is left out."""
    usual = type(message)(message.id)
    values = {part.name: getattr(message, part.name) for part in fields(message)}
    sent = {name: value for name, value in values.items() if name == "id" or value != getattr(usual, name)}
    return json.dumps(sent).encode() + b"\n"


def read_line(kind: type[W], sent: bytes | str) -> W:
    """What `line` made.

    Raises
    ------
    TypeError, ValueError, LookupError
        If it is none such.
    """
    return from_plain(kind, json.loads(sent), ())
