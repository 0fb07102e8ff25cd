from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.images.split import SETS, part
from attentive_lens.plan.settings import Split

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
