"""Requests and results travel and come back the same; what is not what it says is refused."""

from __future__ import annotations

import json
from dataclasses import dataclass, fields, is_dataclass
from typing import Any

import fastjsonschema
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from attentive_lens.core.records import from_plain, schema, to_plain, without_arrays
from attentive_lens.desk.requests import requests_by_name


@dataclass(frozen=True)
class Grain:
    """A grain."""

    name: str
    size: float
    count: int
    whole: bool
    note: str | None
    sides: tuple[int, ...]
    place: tuple[float, float]
    marks: dict[str, float]
    pixels: NDArray[np.uint8]


@dataclass(frozen=True)
class Slide:
    """Grains on glass."""

    grains: tuple[Grain, ...]
    by_number: dict[int, str]
    best: Grain | None
    maps: dict[str, NDArray[np.float32]]


numbers = st.floats(allow_nan=False, allow_infinity=False, width=32)
grains = st.builds(
    Grain,
    st.text(max_size=8),
    numbers,
    st.integers(-(2**40), 2**40),
    st.booleans(),
    st.none() | st.text(max_size=4),
    st.lists(st.integers(0, 9), max_size=4).map(tuple),
    st.tuples(numbers, numbers),
    st.dictionaries(st.text(max_size=3), numbers, max_size=3),
    st.integers(0, 5).map(lambda n: np.arange(n, dtype=np.uint8)),
)
slides = st.builds(
    Slide,
    st.lists(grains, max_size=3).map(tuple),
    st.dictionaries(st.integers(0, 99), st.text(max_size=3), max_size=3),
    st.none() | grains,
    st.dictionaries(st.text(max_size=3), st.just(np.eye(2, dtype=np.float32)), max_size=2),
)


def same(a: Any, b: Any) -> bool:
    """Equal, arrays by their values, dtype and shape."""
    if isinstance(a, np.ndarray):
        return isinstance(b, np.ndarray) and a.dtype == b.dtype and np.array_equal(a, b)
    if is_dataclass(a):
        return type(a) is type(b) and all(same(getattr(a, f.name), getattr(b, f.name)) for f in fields(a))
    if isinstance(a, dict):
        return a.keys() == b.keys() and all(same(a[key], b[key]) for key in a)
    if isinstance(a, tuple):
        return isinstance(b, tuple) and len(a) == len(b) and all(map(same, a, b))
    return type(a) is type(b) and a == b


@given(slides)
def test_what_was_written_is_read_back_the_same(slide: Slide) -> None:
    arrays: list[NDArray[Any]] = []
    plain = json.loads(json.dumps(to_plain(slide, arrays)))
    assert same(from_plain(Slide, plain, arrays), slide)


@given(slides)
def test_what_is_printed_follows_its_schema_and_holds_no_array(slide: Slide) -> None:
    printed = json.loads(json.dumps(without_arrays(slide)))
    fastjsonschema.compile(schema(Slide))(printed)
    assert "maps" not in printed
    assert all("pixels" not in grain for grain in printed["grains"])


GRAIN = {
    "name": "a",
    "size": 1.5,
    "count": 2,
    "whole": True,
    "note": None,
    "sides": [3],
    "place": [0.5, 1],
    "marks": {},
}


@pytest.mark.parametrize(
    ("field", "value"),
    [
        ("name", 3),
        ("size", "much"),
        ("size", True),
        ("count", 1.5),
        ("count", True),
        ("whole", 1),
        ("note", 7),
        ("sides", ["x"]),
        ("place", [0.5]),
        ("place", [0.5, 1, 2]),
        ("marks", {"a": "b"}),
        ("pixels", 9),
    ],
)
def test_a_field_of_another_type_is_refused(field: str, value: object) -> None:
    table = {**GRAIN, "pixels": 0}
    assert from_plain(Grain, table, [np.zeros(1, np.uint8)]).place == (0.5, 1.0)
    with pytest.raises((TypeError, ValueError, LookupError)):
        from_plain(Grain, {**table, field: value}, [np.zeros(1, np.uint8)])


def test_a_field_too_many_or_missing_is_refused() -> None:
    with pytest.raises(TypeError, match="colour is no field of Grain"):
        from_plain(Grain, {**GRAIN, "pixels": 0, "colour": "red"}, [np.zeros(1)])
    with pytest.raises(TypeError, match="pixels"):
        from_plain(Grain, GRAIN, [])


def test_every_request_names_a_result_that_has_a_schema() -> None:
    for name, request in requests_by_name().items():
        assert request.__name__ == name
        assert is_dataclass(request.result), name
        assert schema(request.result)["type"] == "object", name
        assert request.result.__doc__, name
        assert request.__doc__, name
