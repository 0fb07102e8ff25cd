"""A run's number, about a label or not, wherever numbers go."""

from __future__ import annotations

import copy
from dataclasses import dataclass

import pytest
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.core.numbering import RunNumber, label_of
from attentive_lens.core.records import from_plain, to_plain, without_arrays

LABELS = st.text(st.characters(blacklist_categories=("Cs", "Cc")), max_size=12)


@dataclass(frozen=True)
class Holder:
    """A record with a run in it."""

    run: int


@given(st.integers(1, 10**6), LABELS)
def test_it_is_read_as_it_is_written(number: int, label: str) -> None:
    run = RunNumber(number, label)
    again = RunNumber.read(str(run))
    assert again == run and hash(again) == hash(run) and label_of(again) == label
    assert copy.deepcopy(run) == run


@given(st.integers(1, 10**6), LABELS)
def test_it_travels_as_json_does(number: int, label: str) -> None:
    run = RunNumber(number, label)
    for plain in (to_plain(Holder(run), []), without_arrays(Holder(run))):
        assert plain == {"run": f"{number}:{label}" if label else number}
        assert type(plain["run"]) is (str if label else int)
        assert from_plain(Holder, plain, []).run == run


def test_without_a_label_it_is_its_number_and_about_another_label_another() -> None:
    plain, spiny, netted = RunNumber(3), RunNumber(3, "spiny"), RunNumber(3, "netted")
    assert plain == 3 and hash(plain) == hash(3) and {3: "a"}[plain] == "a"
    assert spiny == RunNumber(3, "spiny") and len({plain, spiny, netted, 3}) == 3
    assert spiny != 3 and spiny != netted and spiny == RunNumber(int("3"), "spiny")
    assert f"{spiny:04d}" == "0003" and f"run {spiny}" == "run 3:spiny" and int(spiny) == 3
    with pytest.raises(ValueError, match="invalid"):
        RunNumber.read("x:spiny")
    with pytest.raises(TypeError):
        from_plain(Holder, {"run": "spiny"}, [])
