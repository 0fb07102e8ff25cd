"""Frozen dataclasses as plain JSON values, and back: how requests and results travel, and what ``--json`` prints.

Fields may be text, numbers, truth values, None, tuples, lists, dictionaries by text or number, further dataclasses,
values of a kind and NumPy arrays. Arrays stand apart: in a plain value there is a number in their place.
"""

from __future__ import annotations

import dataclasses
import types
from collections.abc import Callable, Mapping, Sequence
from functools import cache
from typing import Any, TypeAlias, TypeVar, Union, get_args, get_origin, get_type_hints

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import paced
from attentive_lens.core.numbering import RunNumber
from attentive_lens.core.values import Kind, read_kind

T = TypeVar("T")

PlainTable: TypeAlias = dict[str, object]
"""A table of TOML or JSON, a plan or a step of one for instance: whoever reads it checks what is in it."""

RUN = {
    "description": "Number of a run; «3:spiny» where run 3 is asked about one of its several labels.",
    "type": ["integer", "string"],
}
_SIMPLE = {str: "string", int: "integer", float: "number", bool: "boolean", type(None): "null"}


def to_plain(value: Any, arrays: list[NDArray[Any]]) -> Any:
    """A value that JSON can hold; arrays are added to the list, and their places in it stand where they stood."""
    if isinstance(value, np.ndarray):
        arrays.append(value)
        return len(arrays) - 1
    if isinstance(value, RunNumber):
        return str(value) if value.label else int(value)
    if isinstance(value, Kind):
        return value.write_kind()
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return {f.name: to_plain(getattr(value, f.name), arrays) for f in dataclasses.fields(value)}
    if isinstance(value, Mapping):
        return {str(key): to_plain(item, arrays) for key, item in value.items()}
    if isinstance(value, str):
        return value
    if isinstance(value, Sequence):
        return [to_plain(item, arrays) for item in paced(value)]
    return value


def without_arrays(value: Any) -> Any:
    """A value that JSON can hold, the fields that are arrays being left out."""
    if type(value) in _SIMPLE:
        return value
    if isinstance(value, RunNumber):
        return str(value) if value.label else int(value)
    if isinstance(value, Kind):
        return value.write_kind()
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return {name: without_arrays(getattr(value, name)) for name in _shown(type(value))}
    if isinstance(value, Mapping):
        return {str(key): without_arrays(item) for key, item in value.items()}
    if isinstance(value, str):
        return value
    if isinstance(value, Sequence):
        return [without_arrays(item) for item in value]
    return value


def from_plain(kind: type[T], plain: Any, arrays: Sequence[NDArray[Any]]) -> T:
    """The dataclass that `to_plain` made this value of.

    Raises
    ------
    TypeError, ValueError, LookupError
        If it is none such.
    """
    wanted: Any = kind  # a class, which can be looked up
    record: T = _reader(wanted)(plain, arrays)
    return record


_Reader: TypeAlias = Callable[[Any, Sequence[NDArray[Any]]], Any]
"""Makes of a plain value, and the arrays beside it, what a type says."""


@cache
def _reader(kind: Any) -> _Reader:
    """What reads values of a type: worked out once, for there are many of each."""
    origin, args = get_origin(kind), get_args(kind)
    if kind is object:
        return lambda plain, arrays: plain
    if origin in (Union, types.UnionType):
        return _union(tuple(item for item in args if item is not type(None)), type(None) in args)
    if origin is np.ndarray or kind is np.ndarray:
        return lambda plain, arrays: arrays[plain]
    if origin is tuple and not (len(args) == 2 and args[1] is Ellipsis):
        readers = [_reader(item) for item in args]
        return lambda plain, arrays: tuple(read(part, arrays) for read, part in zip(readers, plain, strict=True))
    if origin is tuple:
        member = _reader(args[0])
        return lambda plain, arrays: tuple([member(item, arrays) for item in paced(plain)])
    if origin is list:
        member = _reader(args[0])
        return lambda plain, arrays: [member(item, arrays) for item in plain]
    if origin is not None and issubclass(origin, Mapping):
        key_of, value = args[0], _reader(args[1])
        return lambda plain, arrays: {key_of(key): value(item, arrays) for key, item in plain.items()}
    if isinstance(kind, type) and issubclass(kind, Kind):
        return lambda plain, arrays: read_kind(kind.section, kind.rows, plain)
    if isinstance(kind, type) and dataclasses.is_dataclass(kind):
        return _fields(kind)
    return _plain(kind)


def _union(kinds: tuple[Any, ...], optional: bool) -> _Reader:
    """One of several types, or None."""
    only = _reader(kinds[0]) if len(kinds) == 1 else None

    def read(plain: Any, arrays: Sequence[NDArray[Any]]) -> Any:
        if plain is None and optional:
            return None
        return (only or _reader(_one_of(kinds, plain)))(plain, arrays)

    return read


def _fields(kind: type[Any]) -> _Reader:
    """A dataclass by its fields; their types are looked at when the first is read, for one may hold others of it."""
    readers: dict[str, _Reader] = {}

    def read(plain: Any, arrays: Sequence[NDArray[Any]]) -> Any:
        if not readers:
            hints = _hints(kind)
            readers.update({f.name: _reader(hints[f.name]) for f in dataclasses.fields(kind)})
        if not isinstance(plain, Mapping):
            raise TypeError(f"{plain!r:.60} is no {kind.__name__}")
        unknown = plain.keys() - readers.keys()
        if unknown:
            raise TypeError(f"{', '.join(sorted(unknown))} is no field of {kind.__name__}")
        return kind(**{name: readers[name](value, arrays) for name, value in plain.items()})

    return read


def _plain(kind: Any) -> _Reader:
    """Text, a number or a truth value; a whole number is a number, and a truth value is none."""

    def read(plain: Any, arrays: Sequence[NDArray[Any]]) -> Any:
        del arrays
        if type(plain) is kind:
            return plain
        if kind is int and isinstance(plain, str) and ":" in plain:
            return RunNumber.read(plain)
        if kind is float and isinstance(plain, int) and not isinstance(plain, bool):
            return float(plain)
        if not isinstance(plain, kind) or isinstance(plain, bool):
            raise TypeError(f"{plain!r:.60} is no {kind.__name__}")
        return plain

    return read


def _one_of(kinds: Sequence[Any], plain: Any) -> Any:
    """The type of those that may stand in one place whose fields a plain value has; no two have all in common."""
    if len(kinds) == 1:
        return kinds[0]
    for kind in kinds:
        fields = dataclasses.fields(kind)
        needed = {
            f.name for f in fields if f.default is dataclasses.MISSING and f.default_factory is dataclasses.MISSING
        }
        if isinstance(plain, Mapping) and needed <= plain.keys() <= {f.name for f in fields}:
            return kind
    raise TypeError(f"{plain!r:.60} is none of {', '.join(kind.__name__ for kind in kinds)}")


def schema(kind: Any) -> dict[str, Any]:
    """The JSON schema (draft 7) of what `without_arrays` makes of a dataclass or another of these types."""
    origin, args = get_origin(kind), get_args(kind)
    if kind is object:
        return {}
    if kind in _SIMPLE:
        return {"type": _SIMPLE[kind]}
    if origin in (Union, types.UnionType):
        return {"anyOf": [schema(argument) for argument in args]}
    if origin is tuple and not (len(args) == 2 and args[1] is Ellipsis):
        return {
            "type": "array",
            "items": [schema(argument) for argument in args],
            "minItems": len(args),
            "maxItems": len(args),
        }
    if origin in (tuple, list):
        return {"type": "array", "items": schema(args[0])}
    if origin is not None and issubclass(origin, Mapping):
        return {"type": "object", "additionalProperties": schema(args[1])}
    first = (kind.__doc__ or "").strip().split("\n")[0]
    if issubclass(kind, Kind):
        kinds = {"type": "string", "enum": list(kind.rows)}
        return {"description": first, "type": "object", "required": ["kind"], "properties": {"kind": kinds}}
    hints, shown = _hints(kind), list(_shown(kind))
    properties = {name: RUN if name == "run" and hints[name] is int else schema(hints[name]) for name in shown}
    return {"description": first, "type": "object", "required": shown, "properties": properties}


@cache
def _shown(kind: type[Any]) -> tuple[str, ...]:
    """The fields of a dataclass that are no arrays."""
    hints = _hints(kind)
    return tuple(f.name for f in dataclasses.fields(kind) if not _is_array(hints[f.name]))


def _is_array(kind: Any) -> bool:
    """Whether a field's type is an array, or arrays by name, or perhaps one."""
    origin, args = get_origin(kind), get_args(kind)
    if origin in (Union, types.UnionType):
        return any(_is_array(argument) for argument in args)
    if origin is not None and isinstance(origin, type) and issubclass(origin, Mapping):
        return _is_array(args[1])
    return origin is np.ndarray or kind is np.ndarray


_known_hints: dict[type, dict[str, Any]] = {}


def _hints(kind: type) -> dict[str, Any]:
    if kind not in _known_hints:
        _known_hints[kind] = get_type_hints(kind)
    return _known_hints[kind]
