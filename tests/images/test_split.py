from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.errors import BadValue
from attentive_lens.images.split import SETS, groups_by_name, part
from attentive_lens.plan.split import Split

labels = st.lists(st.integers(0, 4), min_size=1, max_size=80)


@given(labels, st.floats(0.01, 0.9), st.integers(0, 99))
def test_every_class_is_parted_alike_and_keeps_something_to_learn_from(
    own: list[int], fraction: float, seed: int
) -> None:
    sets = part(own, [None] * len(own), Split(fraction), seed)
    for label in set(own):
        mine = [s for s, other in zip(sets, own, strict=True) if other == label]
        held = mine.count("validation")
        assert held == min(len(mine) - 1, max(1, round(len(mine) * fraction)))
        assert mine.count("training") >= 1
    assert set(sets) <= set(SETS)


@given(labels, st.integers(0, 99))
def test_the_split_is_a_function_of_the_seed(own: list[int], seed: int) -> None:
    given_sets = [None] * len(own)
    assert part(own, given_sets, Split(), seed) == part(own, given_sets, Split(), seed)


def test_another_seed_holds_out_others() -> None:
    own = [0] * 50 + [1] * 50
    assert part(own, [None] * 100, Split(), 1) != part(own, [None] * 100, Split(), 2)


def test_sets_named_by_the_source_stay() -> None:
    given_sets = ["training", "training", "test", "training", "training"]
    sets = part([0, 0, 0, 1, 1], given_sets, Split(0.5), 0)
    assert sets[2] == "test"
    assert sets.count("validation") == 2
    held = ["training", "validation", "test"]
    assert part([0, 0, 0], held, Split(0.5), 0) == held


@given(labels, st.integers(0, 99), st.integers(2, 7))
def test_the_images_of_a_group_are_never_parted(own: list[int], seed: int, size: int) -> None:
    groups = {place: place // size for place in range(len(own))}
    sets = part(own, [None] * len(own), Split(0.3), seed, groups)
    for group in set(groups.values()):
        assert len({s for place, s in enumerate(sets) if groups[place] == group}) == 1
    for label in set(own):
        assert "training" in sets or label in own


def test_groups_leave_the_parts_near_what_was_asked() -> None:
    own = [place // 100 for place in range(400)]
    groups = {place: place // 4 for place in range(400)}
    sets = part(own, [None] * 400, Split(0.25), 3, groups)
    for label in range(4):
        assert sum(s == "validation" for s, k in zip(sets, own, strict=True) if k == label) in range(22, 29)


@given(labels, st.integers(0, 99))
def test_adding_images_deals_no_other_into_another_set_but_by_the_rounding(own: list[int], seed: int) -> None:
    before = part(own, [None] * len(own), Split(0.2), seed)
    after = part([*own, 0], [None] * (len(own) + 1), Split(0.2), seed)
    assert sum(a != b for a, b in zip(before, after, strict=False)) <= 2


@given(labels, st.integers(2, 6), st.integers(0, 50))
def test_folds_take_turns_and_cover_everything_once(own: list[int], folds: int, seed: int) -> None:
    held = [
        {
            k
            for k, s in enumerate(part(own, [None] * len(own), Split(folds=folds, validation_fold=fold), seed))
            if s != "training"
        }
        for fold in range(1, folds + 1)
    ]
    assert sorted(place for fold in held for place in fold) == list(range(len(own)))


def test_a_subset_keeps_its_part_of_every_class() -> None:
    own = [0] * 100 + [1] * 50
    sets = part(own, [None] * 150, Split(0.2, subset_fraction=0.1), 5)
    assert [sum(s == "training" for s in sets[:100]), sum(s == "training" for s in sets[100:])] == [8, 4]
    whole = part(own, [None] * 150, Split(0.2), 5)
    held = [k for k, name in enumerate(sets) if name == "validation"]
    assert held == [k for k, name in enumerate(whole) if name == "validation"], "it is judged on as many as ever"
    assert sets.count("left out") == 150 - 30 - 12


def test_a_test_set_is_drawn_where_the_source_has_none_and_excluded_images_stay_out() -> None:
    own = [0] * 50 + [1] * 50
    given_sets = [None] * 99 + ["excluded"]
    sets = part(own, given_sets, Split(0.2, test_fraction=0.1), 1)
    assert (sets.count("test"), sets.count("excluded")) == (10, 1)
    held = part(own, ["test", *given_sets[1:]], Split(0.2, test_fraction=0.1), 1)
    assert held.count("test") == 1


def test_names_that_give_the_same_text_are_a_group() -> None:
    names = ["tape01-3.png", "tape01-7.png", "tape02-1.png", "other.png"]
    assert groups_by_name(names, r"tape\d+") == {0: 0, 1: 0, 2: 1}
    assert groups_by_name(names, r"-(\d)") == {0: 0, 1: 1, 2: 2}


@pytest.mark.parametrize(
    ("settings", "result"),
    [
        ({"group_pattern": "("}, "no regular expression"),
        ({"folds": 3, "validation_fold": 4}, "no fold 4 of 3"),
        ({"validation_fraction": 0.5, "test_fraction": 0.6}, "nothing to train on"),
    ],
)
def test_splits_that_cannot_be_are_refused(settings: dict[str, Any], result: str) -> None:
    with pytest.raises(BadValue, match=result):
        Split(**settings)
