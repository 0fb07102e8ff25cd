"""What a value is: a frozen dataclass whose fields carry unit, range and meaning.

Forms, command-line flags, plan files and tooltips are made from these fields, so nothing is described
twice. A value is checked when it is born; there is no invalid one to guard against later.
"""

from __future__ import annotations

import dataclasses
import difflib
import math
import re
import shlex
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, fields
from types import UnionType
from typing import Any, ClassVar, Self, TypeVar, get_origin, get_type_hints

from attentive_lens.errors import BadUsage, BadValue

_MISSING = object()
SEVERAL = re.compile(r"[0-9]{1,9}([x×][0-9]{1,9})+")
"""Whole numbers as one word."""


@dataclass(frozen=True)
class Spec:
    """What is known of one field besides its type.

    Attributes
    ----------
    meaning : str
        One sentence for the tooltip.
    label : str
        Everyday words for the form; the field's name if empty.
    unit : str
        Unit shown after the number, empty for a plain number.
    low, high : float or None
        Closed range; None is open.
    choices : collection of str
        The only values allowed, if any; a table of kinds where packages bring more.
    counts : tuple of int
        Of a setting that is one number or several: how many it may be besides one.
    slider : tuple of float or None
        The part of the range that a slider spans, where the whole is too wide for one.
    offers : tuple of str
        Of a text: what a list offers first, where other words are allowed too.
    names : str
        Of a text or a number: what else it may name, «image», «layer with maps»; a list offers these.
    ends : str
        Of a number: what is usual, and what happens towards the ends of its range.
    """

    meaning: str
    label: str = ""
    unit: str = ""
    low: float | None = None
    high: float | None = None
    choices: Collection[str] = ()
    counts: tuple[int, ...] = ()
    slider: tuple[float, float] | None = None
    offers: tuple[str, ...] = ()
    names: str = ""
    ends: str = ""

    @property
    def tip(self) -> str:
        """All that is to be said of it."""
        return f"{self.meaning}\n{self.ends}" if self.ends else self.meaning


def spec(
    default: Any = _MISSING,
    *,
    meaning: str,
    label: str = "",
    unit: str = "",
    low: float | None = None,
    high: float | None = None,
    choices: Collection[str] = (),
    counts: tuple[int, ...] = (),
    slider: tuple[float, float] | None = None,
    offers: tuple[str, ...] = (),
    names: str = "",
    ends: str = "",
) -> Any:
    """Declare a field of a `Value`; the arguments are those of `Spec`, after the default."""
    metadata = {"spec": Spec(meaning, label, unit, low, high, choices, counts, slider, offers, names, ends)}
    if default is _MISSING:
        return field(metadata=metadata)
    return field(default=default, metadata=metadata)


@dataclass(frozen=True)
class Value:
    """Base of all values: checked at birth, compared by content, changed only by `with_`."""

    title: ClassVar[str] = "value"

    def __post_init__(self) -> None:
        hints = _hints(type(self))
        for f in fields(self):
            known = f.metadata.get("spec")
            if known is not None:
                value = _checked(self.title, f.name, hints[f.name], known, getattr(self, f.name))
                object.__setattr__(self, f.name, value)

    def with_(self, **changes: Any) -> Self:
        """A copy with some fields changed, checked like any other."""
        return dataclasses.replace(self, **changes)

    @classmethod
    def specs(cls) -> dict[str, Spec]:
        """The described fields in order, by name."""
        return {f.name: f.metadata["spec"] for f in fields(cls) if "spec" in f.metadata}

    @classmethod
    def types(cls) -> dict[str, Any]:
        """The type of every field, by name."""
        hints = _hints(cls)
        return {f.name: hints[f.name] for f in fields(cls)}

    @classmethod
    def read(cls, table: Mapping[str, Any]) -> Self:
        """Make one from a table of a plan file; unknown keys are refused with the nearest known one."""
        known = {f.name for f in fields(cls)}
        for key in table:
            if key not in known:
                raise unknown_word(f"{cls.title}.{key}", key, known)
        hints = _hints(cls)
        ready = {
            key: tuple(value) if isinstance(value, list) and get_origin(hints[key]) in (tuple, UnionType) else value
            for key, value in table.items()
        }
        try:
            return cls(**ready)
        except TypeError as error:
            absent = [f.name for f in fields(cls) if f.name not in table and f.default is dataclasses.MISSING]
            raise BadValue(
                f"The {cls.title} could not be read",
                f"{', '.join(absent) or error} is missing",
                "Add it to the plan",
            ) from None

    @property
    def unusual(self) -> dict[str, Any]:
        """The fields that are not at their default, by name."""
        return {f.name: getattr(self, f.name) for f in fields(self) if getattr(self, f.name) != f.default}

    def write(self) -> dict[str, Any]:
        """The table that `read` makes this value from; fields at their default are kept."""
        table: dict[str, Any] = {}
        for f in fields(self):
            value = getattr(self, f.name)
            table[f.name] = list(value) if isinstance(value, tuple) else value
        return table


@dataclass(frozen=True)
class Kind(Value):
    """Base of the values that stand in a table by their kind: layers, augmentation steps, optimisers, losses.

    Attributes
    ----------
    section : str
        The plan's section it stands in; empty for layers and blocks, which are named by their kind alone.
    kind : str
        Its key in the table and its word in a plan file.
    idea : str
        One sentence for the tooltip, with the trade's term.
    rows : mapping
        All kinds of the table, where a base class stands for any of them.
    """

    section: ClassVar[str] = ""
    kind: ClassVar[str] = ""
    idea: ClassVar[str] = ""
    rows: ClassVar[Mapping[str, type[Kind]]] = {}

    def __init_subclass__(cls, **options: Any) -> None:
        super().__init_subclass__(**options)
        if "kind" in cls.__dict__:
            cls.title = f"{cls.section}.{cls.kind}" if cls.section else cls.kind

    def write_kind(self) -> dict[str, Any]:
        """The table that `read_kind` makes this value from."""
        return {"kind": self.kind, **self.write()}


K = TypeVar("K", bound=Kind)


def read_kind(section: str, rows: Mapping[str, type[K]], table: Any) -> K:
    """One of a table's values, from a table of a plan file with its ``kind``; whatever else it is is a `BadValue`."""
    if not isinstance(table, Mapping):
        raise BadValue(f"plan.{section}", f"a section is needed, got {table!r:.60}", f"Write it under [{section}]")
    kind = table.get("kind")
    if not isinstance(kind, str) or kind not in rows:
        raise unknown_word(f"{section}.kind", str(kind)[:60], frozenset(rows))
    return rows[kind].read({key: value for key, value in table.items() if key != "kind"})


def in_words(section: str, rows: Mapping[str, type[K]], text: str) -> K:
    """One of a table's values from words: «cover row=0.8 column=0.2», «class_activation layer="relu 2"»."""
    try:
        kind, *settings = shlex.split(text) or [""]
    except ValueError:
        raise BadUsage(section, f"«{text}» has a quotation that does not end", "Close it") from None
    pairs = [setting.partition("=") for setting in settings]
    if not kind or any(not equals for _, equals, _ in pairs):
        raise BadUsage(section, f"«{text}» is not understood", "Write a word, and its settings as name=value")
    if kind not in rows:
        raise unknown_word(section, kind[:60], frozenset(rows))
    types = rows[kind].types()
    try:
        return rows[kind].read({name: _of_text(types.get(name), value) for name, _, value in pairs})
    except BadUsage:
        raise
    except BadValue as error:
        known = ", ".join(rows[kind].specs()) or "no settings"
        raise BadUsage(error.what, error.why, f"«{kind}» takes {known}") from None


def _of_text(kind: Any, text: str) -> Any:
    """The number or text that a field of that type takes; what is no number is left as it is, to be refused there."""
    try:
        if kind is float:
            return float(text)
        return int(text) if kind is int else text
    except ValueError:
        return text


def of_kind(rows: Mapping[str, type[K]], kind: str, value: K) -> K:
    """A value of another kind, with the settings both kinds have taken over."""
    chosen = rows[kind]
    return chosen(**{name: getattr(value, name) for name in chosen.specs() if name in value.specs()})


_known_hints: dict[str, dict[str, Any]] = {}


def _hints(kind: type) -> dict[str, Any]:
    """Types by field; working them out takes longer than all else, so it is done once."""
    name = f"{kind.__module__}.{kind.__qualname__}"
    if name not in _known_hints:
        _known_hints[name] = get_type_hints(kind)
    return _known_hints[name]


def unknown_word(where: str, word: str, known: set[str] | frozenset[str]) -> BadUsage:
    """The error for a word that is not on a list, with the nearest that is."""
    near = difflib.get_close_matches(word, known, n=1)
    others = f"Known are: {', '.join(sorted(known))}" if known else "Leave it out"
    remedy = f"Did you mean «{near[0]}»?" if near else others
    return BadUsage(f"{where} is not known", f"«{word}» is none of the words used here", remedy.rstrip("."))


def _checked(title: str, name: str, kind: Any, known: Spec, value: Any) -> Any:
    """The value, with whole numbers widened to float where the field asks for it, or a `BadValue`."""
    where = f"{title}.{name}"
    if kind is float and isinstance(value, int) and not isinstance(value, bool):
        value = _as_float(value)
    if get_origin(kind) is UnionType:
        return _numbers(where, known, value)
    if get_origin(kind) is tuple:
        value = tuple(value) if isinstance(value, list) else value
        if not isinstance(value, tuple):
            raise BadValue(where, f"a list is needed, got {value!r:.60}", "Write it in square brackets")
        if all(isinstance(v, int | float) and not isinstance(v, bool) for v in value) and kind.__args__[0] is float:
            value = tuple(_as_float(v) for v in value)
        if kind.__args__[0] is str and not all(isinstance(v, str) for v in value):
            raise BadValue(where, f"a list of texts is needed, got {list(value)!r:.60}", 'Write ["one", "other"]')
        parts: tuple[Any, ...] = value
        if len(kind.__args__) == 2 and kind.__args__[1] is not Ellipsis and len(value) != 2:
            raise BadValue(where, f"two numbers are needed, got {len(value)}", "Write [lowest, highest]")
        if len(kind.__args__) == 2 and kind.__args__[1] is float and value[0] > value[1]:
            raise BadValue(where, f"{value[0]:g} is above {value[1]:g}", "Write the lower number first")
    else:
        parts = (value,)
        if not isinstance(value, kind) or (kind is int and isinstance(value, bool)):
            words = {int: "a whole number", float: "a number", str: "text", bool: "true or false"}
            raise BadValue(where, f"{words.get(kind, kind)} is needed, got {value!r:.60}", "Change it in the plan")
    if known.choices and value not in known.choices:
        raise unknown_word(where, str(value)[:60], frozenset(known.choices))
    for part in parts:
        if isinstance(part, int | float) and not isinstance(part, bool):
            _in_range(where, part, known)
    return value


def _numbers(where: str, known: Spec, value: Any) -> Any:
    """A whole number, or as many as are allowed, as a list or «28x20»; several that are all the same become one."""
    if isinstance(value, str) and SEVERAL.fullmatch(value):
        value = [int(part) for part in re.split("[x×]", value)]
    value = tuple(value) if isinstance(value, list) else value
    parts = value if isinstance(value, tuple) else (value,)
    if not all(isinstance(part, int) and not isinstance(part, bool) for part in parts):
        raise BadValue(where, f"whole numbers are needed, got {value!r:.60}", "Change it in the plan")
    if isinstance(value, tuple) and len(value) not in known.counts:
        allowed = " or ".join(str(count) for count in known.counts)
        raise BadValue(where, f"one number or {allowed} are needed, got {len(value)}", "Change it in the plan")
    for part in parts:
        _in_range(where, part, known)
    return parts[0] if len(set(parts)) == 1 else value


def _as_float(number: float) -> float:
    """A whole number of any length as floating point."""
    return float(number) if abs(number) < 2**1000 else math.inf if number > 0 else -math.inf


def _in_range(where: str, number: float, known: Spec) -> None:
    unit = f" {known.unit}" if known.unit else ""
    if number != number:
        raise BadValue(where, "it is not a number", "Write a number")
    if known.low is not None and number < known.low:
        raise BadValue(where, f"{_figure(number)}{unit} is below the least, {known.low:g}{unit}", "Raise it")
    if known.high is not None and number > known.high:
        raise BadValue(where, f"{_figure(number)}{unit} is above the most, {known.high:g}{unit}", "Lower it")
    if isinstance(number, int) and abs(number) >= 2**63:
        raise BadValue(where, "it is a number of more than eighteen digits", "Write a smaller one")


def _figure(number: float) -> str:
    """A number in a sentence, however large."""
    return f"{number:g}" if abs(number) < 10**18 else "a number of more than eighteen digits"
