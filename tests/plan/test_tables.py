"""Laws of every table of settings: what stands in one can be written, read, set by words, and wrong values are said."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.strategies import SearchStrategy

from attentive_lens.core.values import Kind, Spec, Value, of_kind, read_kind
from attentive_lens.errors import BadUsage, BadValue
from attentive_lens.plan.augmentation import STEPS
from attentive_lens.plan.averaging import AVERAGING
from attentive_lens.plan.blocks import BLOCKS
from attentive_lens.plan.initialisations import INITIALISATIONS
from attentive_lens.plan.layers import LAYERS
from attentive_lens.plan.losses import LOSSES
from attentive_lens.plan.optimisers import OPTIMISERS
from attentive_lens.plan.outline import commented, settings
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.schedules import SCHEDULES
from attentive_lens.plan.split import Split
from attentive_lens.plan.stopping import Stopping
from attentive_lens.plan.training import Training

CHOICES: dict[str, dict[str, type[Kind]]] = {
    "optimiser": dict(OPTIMISERS),
    "schedule": dict(SCHEDULES),
    "loss": dict(LOSSES),
    "initialisation": dict(INITIALISATIONS),
    "averaging": dict(AVERAGING),
}
"""The plan's sections of which one kind is chosen."""
TABLES: dict[str, dict[str, type[Kind]]] = {
    **CHOICES,
    "layer": dict(LAYERS),
    "block": dict(BLOCKS),
    "augmentation": dict(STEPS),
}
ALL = [(table, kind, cls) for table, rows in TABLES.items() for kind, cls in rows.items()]
SECTIONS: list[type[Value]] = [Split, Preprocessing, Training, Stopping]


def numeric(known: Spec, whole: bool) -> SearchStrategy[Any]:
    low = -1e6 if known.low is None else known.low
    high = 1e6 if known.high is None else known.high
    if whole:
        return st.integers(int(low), int(high))
    return st.floats(low, high, allow_nan=False)


def fields_of(cls: type[Value]) -> dict[str, SearchStrategy[Any]]:
    """Valid values for every field, drawn from what its description says."""
    result: dict[str, SearchStrategy[Any]] = {}
    for name, known in cls.specs().items():
        kind = cls.types()[name]
        if known.choices:
            result[name] = st.sampled_from(tuple(known.choices))
        elif kind is bool:
            result[name] = st.booleans()
        elif kind in (int, float):
            result[name] = numeric(known, kind is int)
        elif kind is str:
            result[name] = st.just("")
    return result


def drawn(cls: type[Value], data: st.DataObject) -> Value | None:
    """A value with drawn fields; None where they do not fit each other."""
    values = {name: data.draw(strategy, name) for name, strategy in fields_of(cls).items()}
    try:
        return cls(**values)
    except BadValue:
        return None


@pytest.mark.parametrize(("table", "kind", "cls"), ALL)
def test_every_kind_says_what_it_is(table: str, kind: str, cls: type[Kind]) -> None:
    assert cls.kind == kind
    assert cls.idea.endswith("."), kind
    assert kind == kind.lower() or kind.split(" ")[0].isupper(), "lower case, or begins with an abbreviation"
    assert cls.__doc__
    for name, known in cls.specs().items():
        assert known.meaning.endswith("."), f"{kind}.{name}"
        assert known.label, f"{kind}.{name} has no words for a form"
        assert not name.startswith("_")
        if known.low is not None and known.high is not None:
            assert known.low < known.high


@pytest.mark.parametrize(("table", "kind", "cls"), [row for row in ALL if row[0] not in ("block",)])
@given(data=st.data())
def test_every_kind_is_written_and_read_back_the_same(
    table: str, kind: str, cls: type[Kind], data: st.DataObject
) -> None:
    value = drawn(cls, data)
    if value is None:
        return
    assert isinstance(value, Kind)
    assert read_kind(table, TABLES[table], value.write_kind()) == value
    assert hash(value) == hash(cls.read(value.write()))


@pytest.mark.parametrize("cls", SECTIONS)
@given(data=st.data())
def test_every_section_is_written_and_read_back_the_same(cls: type[Value], data: st.DataObject) -> None:
    value = drawn(cls, data)
    if value is not None:
        assert cls.read(value.write()) == value


@pytest.mark.parametrize(("table", "kind", "cls"), ALL)
def test_a_number_out_of_range_is_said_with_field_and_limit(table: str, kind: str, cls: type[Kind]) -> None:
    try:
        cls()
    except TypeError:
        return  # a block, or a join, that cannot be without its numbers
    for name, known in cls.specs().items():
        whole = cls.types()[name] is int
        for limit, beyond in ((known.low, -1), (known.high, 1)):
            if limit is None or cls.types()[name] not in (int, float):
                continue
            wrong = int(limit) + beyond if whole else limit + beyond * max(1.0, abs(limit))
            with pytest.raises(BadValue) as caught:
                cls(**{name: wrong})
            assert name in str(caught.value)
            assert f"{limit:g}" in str(caught.value)


def chosen() -> Iterator[tuple[str, str]]:
    for section, rows in CHOICES.items():
        for kind in rows:
            yield section, kind


@pytest.mark.parametrize(("section", "kind"), list(chosen()))
def test_a_choice_is_made_by_a_word_and_keeps_what_both_have(section: str, kind: str) -> None:
    plan = Plan().changed({section: kind})
    value = getattr(plan, section)
    before = getattr(Plan(), section)
    assert value.kind == kind
    for name in value.specs():
        default = getattr(type(value)(), name)
        assert getattr(value, name) == (getattr(before, name) if name in before.specs() else default)
    assert Plan.read(tomllib.loads(commented(plan))) == plan
    others = {own for other in CHOICES[section].values() for own in other.specs()} - set(value.specs())
    for name in others:
        with pytest.raises(BadUsage, match=name):
            Plan().changed({section: kind, f"{section}.{name}": 1})


@pytest.mark.parametrize("section", CHOICES)
def test_a_choice_that_is_none_is_said_with_the_nearest(section: str) -> None:
    kind = next(iter(CHOICES[section]))
    with pytest.raises(BadUsage, match=kind):
        Plan().changed({section: f"{kind}x"})
    for wrong in (3, None, [], "", {"kind": 7}):
        with pytest.raises(BadValue):
            read_kind(section, CHOICES[section], wrong)


@pytest.mark.parametrize("section", CHOICES)
def test_changing_the_kind_and_back_keeps_what_all_kinds_have(section: str) -> None:
    rows = CHOICES[section]
    shared = set.intersection(*(set(cls.specs()) for cls in rows.values()))
    first = next(iter(rows.values()))()
    value = first
    for kind in [*rows, first.kind]:
        value = of_kind(rows, kind, value)
    assert {name: getattr(value, name) for name in shared} == {name: getattr(first, name) for name in shared}


def test_every_setting_is_listed_once_and_can_be_set_to_its_default() -> None:
    keys = [own.key for own in settings()]
    assert len(keys) == len(set(keys))
    for section, rows in CHOICES.items():
        for cls in rows.values():
            for name in cls.specs():
                assert f"{section}.{name}" in keys
    assert {f"split.{name}" for name in Split.specs()} <= set(keys)
    assert {f"training.{name}" for name in Training.specs()} <= set(keys)
