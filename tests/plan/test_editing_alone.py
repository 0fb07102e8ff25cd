"""A layer is exchanged with its neighbour, and exchanged back, wherever it stands alone on its way."""

from __future__ import annotations

from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.errors import BadValue
from attentive_lens.plan import editing
from attentive_lens.plan.blocks import built
from attentive_lens.plan.layers import Add, BatchNormalisation, Convolution, Dropout, Flatten, Output, Relu
from attentive_lens.plan.starters import STARTERS

CHAIN = built([Convolution(4), Relu(), BatchNormalisation(), Dropout(), Flatten(), Output()]).nodes


@given(st.sampled_from(sorted(STARTERS)), st.data())
def test_what_is_moved_later_and_then_earlier_is_where_it_was(name: str, data: st.DataObject) -> None:
    nodes = STARTERS[name].network_for(64, 4).nodes
    node = data.draw(st.sampled_from(nodes))
    try:
        later = editing.swap(nodes, node.name, later=True)
    except BadValue:
        return
    assert later != nodes
    assert sorted(each.name for each in later) == sorted(each.name for each in nodes)
    back = editing.swap(later, node.name, later=False)
    assert {(each.name, each.after, each.layer) for each in back} == {(e.name, e.after, e.layer) for e in nodes}


def test_only_the_two_change_places() -> None:
    names = [node.name for node in CHAIN]
    later = editing.swap(CHAIN, "relu 1", later=True)
    assert [node.name for node in later] == [names[0], names[2], names[1], *names[3:]]
    assert all(one.after == ("image",) or one.after[0] == two.name for two, one in pairwise(later))


@pytest.mark.parametrize(("name", "later"), [("convolution 1", False), ("flatten 1", True), ("output", True)])
def test_the_ends_stay(name: str, later: bool) -> None:
    with pytest.raises(BadValue, match="cannot move"):
        editing.swap(CHAIN, name, later)


def test_a_join_is_not_exchanged() -> None:
    nodes, joined = editing.connect(CHAIN, "convolution 1", "dropout 1")
    assert isinstance(next(node.layer for node in nodes if node.name == joined), Add)
    for name, later in ((joined, False), (joined, True), ("dropout 1", False), ("convolution 1", True)):
        with pytest.raises(BadValue, match="no single layer"):
            editing.swap(nodes, name, later)


def test_a_normalisation_goes_before_the_activation_and_nothing_else_does() -> None:
    assert editing.usual_place(CHAIN, "relu 1", BatchNormalisation()) == ("convolution 1", "relu 1")
    assert editing.usual_place(CHAIN, "relu 1", Dropout()) == ("relu 1", "")
    assert editing.usual_place(CHAIN, "convolution 1", BatchNormalisation(), "relu 1") == ("convolution 1", "relu 1")
    assert editing.usual_place(CHAIN, "image", BatchNormalisation()) == ("image", "")
