"""What every request has."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Generic, TypeVar

R_co = TypeVar("R_co", covariant=True)


@dataclass(frozen=True)
class Request(Generic[R_co]):
    """Base of the requests; ``R_co`` is the dataclass of the result.

    To add one: its class and that of its result here, one function in ``desk/tasks``, and a line in each table.
    """

    result: ClassVar[type[object]]
    """The class ``R_co``, for reading what came from another process."""
