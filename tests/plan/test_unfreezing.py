"""Layers of a base that learns on begin part by part, the last first, each more slowly the deeper it lies."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.errors import BadValue
from attentive_lens.plan.base import Base
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS
from attentive_lens.plan.unfreezing import Unfreezing, base_parts, unfreezing_of


def plan_of(**settings: object) -> Plan:
    plan = Plan().changed({"network": "normalised blocks"})
    last = [fact.name for fact in plan.network.facts((64, 64, 3)) if len(fact.shape) == 3][-1]
    base = Base(until=last, frozen=False).with_(**settings)
    return Plan(network=plan.network, base=base)


def test_parts_are_the_layers_of_one_size_the_last_first() -> None:
    plan = plan_of()
    parts = base_parts(plan)
    shapes = {fact.name: fact.shape for fact in plan.network.facts((64, 64, 3))}
    sides = [{shapes[name][0] for name in part} for part in parts]
    assert sides == [{8, 16}, {32}, {64}], "the last pooling learns nothing, and is no part"
    assert frozenset().union(*parts) == plan.network.up_to(plan.base.until)  # type: ignore[union-attr]
    assert sum(map(len, parts)) == len(frozenset().union(*parts)), "no layer is in two parts"
    assert base_parts(Plan()) == ()


@given(
    warmup=st.integers(0, 5),
    every=st.integers(0, 4),
    decay=st.floats(0.1, 1.0),
    epoch=st.integers(0, 30),
    network=st.sampled_from(["residual", "three blocks", "bottleneck", "densely connected"]),
)
def test_once_a_part_learns_it_goes_on_and_no_deeper_one_learns_before(
    warmup: int, every: int, decay: float, epoch: int, network: str
) -> None:
    made = STARTERS[network].network
    last = [fact.name for fact in made.facts((64, 64, 3)) if len(fact.shape) == 3][-1]
    settings = {"head_warmup_epochs": warmup, "unfreeze_every": every, "lr_decay": decay}
    plan = Plan(network=made, base=Base(until=last, frozen=False).with_(**settings))
    unfreezing, parts = unfreezing_of(plan), base_parts(plan)
    frozen, later = unfreezing.frozen_at(epoch), unfreezing.frozen_at(epoch + 1)
    assert later <= frozen
    learns = [not part & frozen for part in parts]
    assert learns == sorted(learns, reverse=True), "the last part first"
    assert sum(learns) == sum(epoch >= warmup + k * every for k in range(len(parts)))
    assert all(not part & frozen or part <= frozen for part in parts)
    for k, part in enumerate(parts):
        assert [unfreezing.factors.get(name, 1.0) for name in part] == pytest.approx([decay ** (k + 1)] * len(part))
    new = {node.name for node in made.nodes} - frozenset().union(*parts)
    assert not new & (frozen | unfreezing.factors.keys()), "new layers learn from the first, at the plan's rate"


def test_kept_normalisation_never_learns() -> None:
    unfreezing = unfreezing_of(plan_of(normalisation="kept"))
    assert unfreezing.still
    assert all("normalisation" in name for name in unfreezing.still)
    assert unfreezing.frozen_at(10_000) == unfreezing.still
    assert unfreezing_of(plan_of()) == Unfreezing()


def test_of_what_is_frozen_nothing_more_can_be_said() -> None:
    for settings in ({"head_warmup_epochs": 1}, {"unfreeze_every": 2}, {"lr_decay": 0.5}, {"normalisation": "kept"}):
        with pytest.raises(BadValue, match="frozen = false"):
            Base(until="relu 1").with_(**settings)
        assert Base(until="relu 1", frozen=False).with_(**settings).finely != (0, 0, 1.0, "learned")
    assert unfreezing_of(Plan()) == Unfreezing()
