"""What every request has."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Generic, TypeVar

from attentive_lens.core.values import Value

R_co = TypeVar("R_co", covariant=True)


@dataclass(frozen=True)
class Request(Value, Generic[R_co]):
    """Base of the requests; ``R_co`` is the dataclass of the result.

    To add one: its class and that of its result in a file here, and the function in a file of ``desk/tasks``.

    Attributes
    ----------
    result : type
        The class ``R_co``, for reading what came from another process.
    task : str
        The module of ``desk/tasks`` and its function that carries the request out, with a dot between.
    doing : str
        What is being done meanwhile.
    arguments : tuple of str
        Fields that its command takes without an option's name, although they may be left out.
    """

    result: ClassVar[type[object]]
    task: ClassVar[str]
    doing: ClassVar[str] = ""
    arguments: ClassVar[tuple[str, ...]] = ()

    def __init_subclass__(cls, **options: Any) -> None:
        super().__init_subclass__(**options)
        REQUESTS[cls.__name__] = cls
        cls.title = cls.task.partition(".")[2].replace("_", " ")


REQUESTS: dict[str, type[Request[object]]] = {}
"""Those whose module is loaded, by the name of their class; see `requests_by_name`."""
