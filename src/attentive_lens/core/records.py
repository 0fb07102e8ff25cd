"""Frozen dataclasses as plain JSON values, and back: how requests and results travel, and what ``--json`` prints.

Fields may be text, numbers, truth values, None, tuples, lists, dictionaries by text or number, further dataclasses,
values of a kind and NumPy arrays. Arrays stand apart: in a plain value there is a number in their place.
"""

from __future__ import annotations

import dataclasses
import types
from collections.abc import Mapping, Sequence
from typing import Any, TypeAlias, TypeVar, Union, get_args, get_origin, get_type_hints

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import paced
from attentive_lens.core.values import Kind, read_kind

T = TypeVar("T")

PlainTable: TypeAlias = dict[str, object]
"""A table of TOML or JSON, a plan or a step of one for instance: whoever reads it checks what is in it."""

_SIMPLE = {str: "string", int: "integer", float: "number", bool: "boolean", type(None): "null"}


def to_plain(value: Any, arrays: list[NDArray[Any]]) -> Any:
    """A value that JSON can hold; arrays are added to the list, and their places in it stand where they stood."""
    if isinstance(value, np.ndarray):
        arrays.append(value)
        return len(arrays) - 1
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
    if isinstance(value, Kind):
        return value.write_kind()
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        hints = _hints(type(value))
        shown = [f.name for f in dataclasses.fields(value) if not _is_array(hints[f.name])]
        return {name: without_arrays(getattr(value, name)) for name in shown}
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
    record: T = _read(kind, plain, arrays)
    return record


def _read(kind: Any, plain: Any, arrays: Sequence[NDArray[Any]]) -> Any:
    origin, args = get_origin(kind), get_args(kind)
    if kind is object:
        return plain
    if origin in (Union, types.UnionType):
        if plain is None and type(None) in args:
            return None
        return _read(_one_of([item for item in args if item is not type(None)], plain), plain, arrays)
    if origin is np.ndarray or kind is np.ndarray:
        return arrays[plain]
    if origin is tuple:
        if len(args) == 2 and args[1] is Ellipsis:
            return tuple(_read(args[0], item, arrays) for item in paced(plain))
        return tuple(_read(item, part, arrays) for item, part in zip(args, plain, strict=True))
    if origin is list:
        return [_read(args[0], item, arrays) for item in plain]
    if origin is not None and issubclass(origin, Mapping):
        return {args[0](key): _read(args[1], item, arrays) for key, item in plain.items()}
    if isinstance(kind, type) and issubclass(kind, Kind):
        return read_kind(kind.section, kind.rows, plain)
    if isinstance(kind, type) and dataclasses.is_dataclass(kind):
        hints = _hints(kind)
        names = [f.name for f in dataclasses.fields(kind)]
        unknown = plain.keys() - set(names)
        if unknown:
            raise TypeError(f"{', '.join(sorted(unknown))} is no field of {kind.__name__}")
        return kind(**{name: _read(hints[name], plain[name], arrays) for name in names if name in plain})
    if kind is float and isinstance(plain, int) and not isinstance(plain, bool):
        return float(plain)
    if not isinstance(plain, kind) or (isinstance(plain, bool) and kind is not bool):
        raise TypeError(f"{plain!r:.60} is no {kind.__name__}")
    return plain


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
    hints = _hints(kind)
    shown = [f.name for f in dataclasses.fields(kind) if not _is_array(hints[f.name])]
    properties = {name: schema(hints[name]) for name in shown}
    return {"description": first, "type": "object", "required": shown, "properties": properties}


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
