"""Kinds that other packages bring: taken from their entry points, or left out with the reason.

A package names what it brings in its metadata, a group for each table of ours (`PAIRS`, `ALONE`). What raises, is of
another kind or has a name that is taken is left out and told (`left_out`); everything else goes on.
"""

from __future__ import annotations

import contextlib
import os
import sys
from collections.abc import Callable, Mapping, MutableMapping
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import TYPE_CHECKING, Any, TypeVar

from attentive_lens.errors import BadFile

if TYPE_CHECKING:
    from importlib.metadata import EntryPoint

T = TypeVar("T")
MOST = 1 << 20
"""Bytes of a package's list of entry points that are looked at."""

PREFIX = "attentive_lens."
PAIRS = {
    "plan.layers": "engine.layers",
    "plan.augmentation": "images.augmentation",
    "plan.losses": "engine.losses",
    "plan.schedules": "engine.schedules",
    "plan.optimisers": "engine.optimisers",
    "explaining.methods": "explaining.saliency",
    "plan.measures": "scoring.measures",
    "plan.stopping": "training.stopping",
}
"""Groups of settings, and those of what computes by them: both name the kind."""
VALUES = ("plan.measures", "plan.stopping")
"""Groups of settings that are values themselves, where others are classes of them."""
ALONE = ("images.sources",)
"""Groups of kinds that are whole in themselves."""


@dataclass(frozen=True)
class Extension:
    """Something that a package brings.

    Attributes
    ----------
    group : str
        One of `PAIRS` or `ALONE`, without `PREFIX`.
    name : str
        Of the kind.
    package, version : str
        Whose it is.
    problem : str
        Why it is left out; empty where it is not.
    """

    group: str
    name: str
    package: str
    version: str
    problem: str = ""

    @property
    def sentence(self) -> str:
        """That it is left out, in a sentence."""
        return f"«{self.name}» ({self.group}) of the package {self.package} is left out: {self.problem}."


_MET: dict[tuple[str, str], Extension] = {}


def met() -> tuple[Extension, ...]:
    """All that was met so far, in the tables that were loaded."""
    return tuple(_MET.values())


def left_out() -> tuple[Extension, ...]:
    """Those of them that were left out."""
    return tuple(each for each in _MET.values() if each.problem)


def leave_out(group: str, name: str, problem: str) -> None:
    """Note that something which was loaded does not do what it should."""
    known = _MET.get((group, name))
    if known is not None and not known.problem:
        _MET[group, name] = replace(known, problem=problem)


def problem_with(group: str, name: str) -> str:
    """Why something is left out; empty where it is not."""
    known = _MET.get((group, name))
    return known.problem if known is not None else ""


def _is_any_named() -> bool:
    """Whether a package says that it brings something: looked up in a few milliseconds, for most bring nothing."""
    for place in sys.path:
        with contextlib.suppress(OSError):
            for each in os.scandir(place or "."):
                if each.name.endswith((".dist-info", ".egg-info")) and each.is_dir():
                    with contextlib.suppress(OSError), open(f"{each.path}/entry_points.txt", "rb") as stream:  # noqa: PTH123  # faster
                        if f"[{PREFIX}".encode() in stream.read(MOST):
                            return True
    return False


@lru_cache(maxsize=1)
def _named() -> dict[str, tuple[EntryPoint, ...]]:
    """The entry points of our groups."""
    if not _is_any_named():
        return {}
    from importlib.metadata import entry_points  # only here: it takes longer to load than to look

    every = entry_points()
    groups = (group for group in every.groups if group.startswith(PREFIX))
    return {group.removeprefix(PREFIX): tuple(every.select(group=group)) for group in groups}


def take_kinds(table: MutableMapping[str, Any], group: str, base: type) -> None:
    """Put the settings, or other classes, that packages bring into a table by kind.

    Parameters
    ----------
    table : mapping
        Of our own kinds; changed in place.
    group : str
        Of the table.
    base : type
        What each must be: a class of its kind, or where the table holds values, one of them.
    """
    of_values = group in VALUES
    partner = PAIRS.get(group)
    partners = {point.name for point in _named().get(partner or "", ())}
    for point in _named().get(group, ()):

        def problem_of(thing: object, point: EntryPoint = point) -> str:
            if not (isinstance(thing, base) if of_values else is_kind(thing, base)):
                return f"it is no {base.__name__}"
            name = getattr(thing, "name" if of_values else "kind", point.name)
            if name != point.name:
                return f"it calls itself «{name}»"
            if point.name in table:
                return "there is one of that name already"
            if partner is not None and point.name not in partners:
                return f"nothing computes by it: an entry point of its name is missing in {PREFIX}{partner}"
            return ""

        def take(thing: Any, problem: str, name: str = point.name) -> None:
            if not problem:
                table[name] = thing

        _load(group, point, problem_of, take)


class Parts(dict[str, T]):
    """What computes by settings, by kind: ours, and what packages bring, which is loaded when it is first wanted.

    Parameters
    ----------
    own : mapping
        Ours.
    group : str
        Of the table.
    stand_in : callable
        Makes of an error what raises it when it is used: settings may be there although this cannot be loaded.
    fits : callable
        What stands in the table for what was loaded; None where it is of another kind.
    """

    def __init__(
        self, own: Mapping[str, T], group: str, stand_in: Callable[[BadFile], T], fits: Callable[[Any], T | None]
    ) -> None:
        super().__init__(own)
        self.group, self._stand_in, self._fits = group, stand_in, fits

    def __missing__(self, kind: str) -> T:
        """Load it; `KeyError` if nobody brings it."""
        points = [point for point in _named().get(self.group, ()) if point.name == kind]
        if not points:
            raise KeyError(kind)

        def problem_of(thing: object) -> str:
            return "" if self._fits(thing) is not None else "it is of another kind"

        def take(thing: Any, problem: str) -> None:
            made = self._fits(thing) if not problem else None
            error = BadFile(f"«{kind}» cannot be computed", problem, "Mend the package that brings it")
            self[kind] = self._stand_in(error) if made is None else made

        _load(self.group, points[0], problem_of, take)
        return self[kind]

    def load_all(self) -> None:
        """Load all that packages bring to it."""
        for point in _named().get(self.group, ()):
            self[point.name]


def is_kind(thing: object, base: type) -> bool:
    """Whether something is a class of a kind."""
    return isinstance(thing, type) and issubclass(thing, base)


def raising(error: BadFile) -> Any:
    """A function that raises an error, whatever it stands for."""

    def call(*_: object, **__: object) -> Any:
        raise error

    return call


_WAITING: list[Callable[[], None]] = []
"""Entry points whose module is just being imported: it asks for the tables of ours that it is to stand in."""


def _load(group: str, point: EntryPoint, problem_of: Callable[[object], str], take: Callable[[Any, str], None]) -> None:
    """Load what an entry point names and hand it on, with the reason where it is left out.

    In the middle of the import of its module it is put off: of settings, which are wanted by nobody yet. What computes
    is wanted now, and another thread's import is waited for.
    """
    module = sys.modules.get(point.module)
    if group not in PAIRS.values() and getattr(getattr(module, "__spec__", None), "_initializing", False):
        _WAITING.append(lambda: _load(group, point, problem_of, take))
        return
    thing, problem = None, ""
    try:
        thing = point.load()
    except Exception as error:  # noqa: BLE001  # it is somebody else's code: whatever it raises is told
        problem = f"{type(error).__name__}: {error}"[:300]
    problem = problem or problem_of(thing)
    package = point.dist.name if point.dist is not None else "an unnamed package"
    version = point.dist.version if point.dist is not None else ""
    _MET[group, point.name] = Extension(group, point.name, package, version, problem)
    take(thing, problem)
    waiting = _WAITING.copy()
    _WAITING.clear()
    for call in waiting:
        call()
