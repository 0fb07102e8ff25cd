from __future__ import annotations

import pytest

from attentive_lens.errors import BadValue, NotHere
from attentive_lens.plan.blocks import Residual, Squeeze, built, read_network
from attentive_lens.plan.difference import settings_of
from attentive_lens.plan.generators import GENERATORS
from attentive_lens.plan.layers import (
    LAYERS,
    Connected,
    Convolution,
    DoesNotFit,
    Flatten,
    GlobalPooling,
    MaxPooling,
    Output,
    Relu,
    TransposedConvolution,
)
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import Node
from attentive_lens.plan.plan import DRAWING, Plan
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.starters import STARTERS


def test_every_starting_network_survives_writing_and_reading() -> None:
    for starter in STARTERS.values():
        assert read_network(starter.network.write()) == starter.network


def test_every_kind_of_layer_can_be_read_by_its_word() -> None:
    for kind, layer in LAYERS.items():
        assert layer.kind == kind
        assert layer.read({}).write().keys() == layer.specs().keys()


def test_facts_of_a_small_network_are_those_worked_out_by_hand() -> None:
    layers = [Convolution(filters=4, kernel_size=5, padding="valid"), Relu(), MaxPooling(), Flatten(), Output()]
    facts = NetworkPlan.stack(layers).with_outputs(3).facts((12, 10, 3))
    assert [f.shape for f in facts] == [(8, 6, 4), (8, 6, 4), (4, 3, 4), (48,), (3,)]
    assert [f.weights for f in facts] == [5 * 5 * 3 * 4 + 4, 0, 0, 0, 48 * 3 + 3]
    assert facts[0].multiply_adds == 8 * 6 * 4 * 75
    assert [f.receptive_field for f in facts] == [5, 5, 6, None, None]
    assert facts[2].jump == 2


def test_receptive_fields_begin_where_the_padding_puts_them() -> None:
    layers = [Convolution(kernel_size=5), MaxPooling(), Convolution(kernel_size=3), Flatten(), Output()]
    facts = NetworkPlan.stack(layers).with_outputs(2).facts((16, 16, 3))
    # 5×5 kept edges begin 2 before the image; the second convolution one step of two pixels before that.
    assert [(f.offset, f.jump, f.receptive_field) for f in facts[:3]] == [(-2, 1, 5), (-2, 2, 6), (-4, 2, 10)]


def test_a_layer_that_does_not_fit_is_named_with_its_input() -> None:
    layers = [Convolution(kernel_size=5, padding="valid"), MaxPooling(), MaxPooling(), Flatten(), Output()]
    with pytest.raises(
        DoesNotFit, match=r"max pooling 2 does not fit.*get 1×1 from max pooling 1 \(2×2 window, stride 2, on 2×2\)"
    ):
        NetworkPlan.stack(layers).facts((6, 6, 3))
    with pytest.raises(DoesNotFit, match="takes one row of values"):
        NetworkPlan.stack([Connected(), Output()]).facts((6, 6, 3))
    with pytest.raises(DoesNotFit, match="was flattened"):
        NetworkPlan.stack([Flatten(), Convolution(), Output()]).facts((6, 6, 3))


def test_a_network_without_sense_is_refused_in_words() -> None:
    with pytest.raises(BadValue, match="has no output"):
        NetworkPlan.stack([Flatten()])
    with pytest.raises(BadValue, match="two nodes called a"):
        NetworkPlan((Node("a", Flatten(), ("image",)), Node("a", Output(), ("a",))))
    with pytest.raises(BadValue, match="no layer before it is called b"):
        NetworkPlan((Node("a", Flatten(), ("b",)), Node("output", Output(), ("a",))))
    with pytest.raises(BadValue, match="exactly one input"):
        NetworkPlan((Node("a", Flatten(), ("image",)), Node("output", Output(), ("a", "image"))))


def test_up_to_names_the_layer_and_all_that_feed_it() -> None:
    network = STARTERS["two blocks"].network
    assert network.up_to("relu 2") == {"convolution 1", "relu 1", "max pooling 1", "convolution 2", "relu 2"}
    with pytest.raises(NotHere, match="no layer called relu 9"):
        network.up_to("relu 9")


def test_a_block_after_a_transposed_convolution_knows_its_channels() -> None:
    before = [Convolution(filters=8), TransposedConvolution(filters=6), Residual(filters=6)]
    network = built([*before, Squeeze(reduction=2), GlobalPooling(), Output()]).with_outputs(3)
    shapes = {fact.name: fact.shape for fact in network.facts((16, 16, 3))}
    assert shapes["transposed convolution 1"] == (32, 32, 6)
    assert not any(node.name == "convolution 4" for node in network.nodes), "the short cut needs no filters of its own"
    assert shapes["output"] == (3,)


@pytest.mark.parametrize("name", STARTERS)
@pytest.mark.parametrize("side", [3, 8, 16, 28, 48, 64, 100, 224])
def test_a_starting_network_fits_the_images_and_classes_it_is_made_for(name: str, side: int) -> None:
    for classes in (2, 100):
        network = STARTERS[name].network_for(side, classes).with_outputs(classes)
        facts = network.facts((side, side, 3))
        assert facts[-1].shape == (classes,)
        last_map = [fact for fact in facts if len(fact.shape) == 3][-1:]
        assert all(fact.shape[0] <= 32 for fact in last_map), "a large image is shrunk before the head"
        assert sum(fact.weights for fact in facts) < 9_000_000
    assert STARTERS[name].network_for(64) == STARTERS[name].network


def test_starting_networks_are_a_dozen_and_no_two_are_alike() -> None:
    assert len(STARTERS) == 12
    assert len({starter.network for starter in STARTERS.values()}) == 12
    assert len({starter.when for starter in STARTERS.values()}) == 12


@pytest.mark.parametrize("size", [(28, 20), (20, 28), (96, 320), (33, 97), (16, 8)])
@pytest.mark.parametrize("name", [*STARTERS, *DRAWING])
def test_a_starting_network_fits_images_that_are_not_square(name: str, size: tuple[int, int]) -> None:
    preprocessing = Preprocessing(input_size=size)
    if name in GENERATORS and size == (33, 97):
        with pytest.raises(BadValue, match="33×97 pixels cannot be halved"):
            Plan().changed({"preprocessing.input_size": list(size), "network": name})
        return
    plan = Plan().changed({"preprocessing.input_size": list(size), "network": name})
    facts = plan.network_for(3).facts(preprocessing.shape)
    if name in STARTERS:
        assert facts[-1].shape == (3,)
        assert plan.network == STARTERS[name].network_for(min(size)), "the shorter side says how far it shrinks"
    else:
        shapes = {fact.name: fact.shape for fact in facts}
        assert shapes[plan.network.drawing.name] == preprocessing.shape
        assert DRAWING[name].network_for(64) == DRAWING[name].network_for((64, 64))
        begins = [shapes[node.name] for node in plan.network.nodes if node.layer.kind == "reshape"]
        if "fully" not in name and size != (33, 97):
            longest, least = max(begins[0][:2]), min(begins[0][:2])
            evenly = all(side % 2 == 0 for side in begins[0][:2])
            assert (least < 8 or not evenly) if name in GENERATORS else (longest <= 8 or not evenly)
            assert least >= (4 if name in GENERATORS else 1)


def test_an_input_size_is_one_number_or_two() -> None:
    for written, size in ((64, 64), ([64, 64], 64), ((28, 20), (28, 20)), ("28x20", (28, 20)), ("28×20", (28, 20))):
        plan = Plan().changed({"preprocessing.input_size": written})
        assert plan.preprocessing.input_size == size
        assert Plan.read(plan.write()) == plan
    plan = Plan().changed({"preprocessing.input_size": "28x20"})
    assert plan.preprocessing.shape == (28, 20, 3)
    assert plan.preprocessing.size_in_words == "28×20"
    assert plan.preprocessing.sized(40) == (56, 40)
    assert Preprocessing(input_size=48).sized(64) == 64
    assert "28×20" in settings_of(plan)["preprocessing.input_size"]
    for wrong in ("28x", "28x20x3", [28, 3], "axb", [28, 20, 3], 28.5):
        with pytest.raises(BadValue):
            Plan().changed({"preprocessing.input_size": wrong})
