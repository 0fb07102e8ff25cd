"""Why a shape is what it is can be reckoned through, for every window there is."""

from __future__ import annotations

import math
import re

from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.errors import LensError
from attentive_lens.plan.examination import Facts, examine
from attentive_lens.plan.generators import GENERATORS
from attentive_lens.plan.layers import AveragePooling, Convolution, LayerSettings, MaxPooling, Output, Shape
from attentive_lens.plan.layers.resampling import Resampling, TransposedConvolution
from attentive_lens.plan.nodes import IMAGE, Node
from attentive_lens.plan.reasons import reason

SIDES = st.integers(1, 40)
WINDOWS = st.one_of(
    st.builds(
        Convolution,
        filters=st.integers(1, 5),
        kernel_size=st.tuples(st.integers(1, 7), st.integers(1, 7)),
        stride=st.integers(1, 4),
        padding=st.sampled_from(("same", "valid", "explicit")),
        padding_width=st.tuples(*[st.integers(0, 3)] * 4),
        dilation=st.integers(1, 3),
    ),
    st.builds(
        MaxPooling,
        kernel_size=st.tuples(st.integers(1, 5), st.integers(1, 5)),
        stride=st.integers(1, 4),
        padding_width=st.tuples(*[st.integers(0, 2)] * 4),
        ceil_mode=st.booleans(),
    ),
)


def fact_of(layer: LayerSettings, shape: Shape) -> Facts:
    return examine((Node("one", layer, (IMAGE,)), Node("end", Output(), ("one",))), shape).facts["one"]


def reckoned(words: str) -> tuple[int, int]:
    """What is worked out for an axis, and what stands behind the sign of equality."""
    if words.startswith("windows that hold a pixel: "):
        return int(words.split(": ")[1]), int(words.split(": ")[1])
    formula, result = words.split(" = ")
    rounded = re.search(r", rounded (up|down),$", formula.strip())
    whole = formula.replace("−", "-").split(", rounded")[0]
    assert re.fullmatch(r"[0-9+\-/() ]+", whole)
    value = eval(whole)  # noqa: S307  # figures and signs alone, as was just looked at
    if rounded is not None:
        assert value != int(value)
        value = math.ceil(value) if rounded[1] == "up" else math.floor(value)
    return int(value), int(result)


@given(WINDOWS, SIDES, SIDES)
def test_the_sum_that_is_told_comes_out_as_the_shape(layer: LayerSettings, rows: int, columns: int) -> None:
    try:
        layer.output_shape((rows, columns, 3))
    except LensError:
        return
    fact = fact_of(layer, (rows, columns, 3))
    result = reason(layer, fact)
    axes = layer.axes((rows, columns, 3))
    assert axes is not None
    assert tuple(axis.count for axis in axes) == fact.shape[:2]
    if result == "The shape stays as it is.":
        assert fact.shape == fact.input_shape
        return
    both = re.search(r"[Rr]ows and columns: ([^;]*?)[;.]", result)
    each = re.search(r"[Rr]ows: ([^;]*); columns: ([^;]*?)[;.]", result)
    sums = [both[1], both[1]] if both is not None else [each[1], each[2]] if each is not None else []
    results = [reckoned(words) for words in sums]
    for (value, number), side in zip(results, fact.shape[:2], strict=True):
        assert number == side
        assert value == side
    assert "hold a pixel" not in result or any(axis.ceil for axis in axes)


def test_known_sentences() -> None:
    for layer, shape, words in (
        (
            Convolution(8, 3, padding="valid"),
            (96, 96, 3),
            "3×3 windows, no padding; rows and columns: 96 − 3 + 1 = 94;",
        ),
        (
            Convolution(8, (5, 3), padding="explicit", padding_width=(1, 2, 0, 0)),
            (20, 20, 3),
            "5×3 windows, padding 1 above, 2 below, 0 at the left, 0 at the right;"
            " rows: 20 + 1 + 2 − 5 + 1 = 19; columns: 20 − 3 + 1 = 18;",
        ),
        (
            Convolution(3, 3, stride=2, padding="valid"),
            (46, 46, 3),
            "3×3 windows every 2 pixels, no padding; rows and columns: (46 − 3) / 2 + 1, rounded down, = 22.",
        ),
        (AveragePooling(), (8, 8, 3), "2×2 windows every 2 pixels, no padding; rows and columns: (8 − 2) / 2 + 1 = 4."),
        (Resampling(factor=3), (4, 6, 2), "Rows: 4 × 3 = 12; columns: 6 × 3 = 18."),
        (TransposedConvolution(5), (4, 4, 2), "Rows and columns: 4 × 2 = 8; each of 5 filters draws a map of"),
        (
            Convolution(9),
            (4, 4, 2),
            "3×3 windows, padding 1; rows and columns: 4 + 1 + 1 − 3 + 1 = 4; each of 9 filters",
        ),
    ):
        assert reason(layer, fact_of(layer, shape)).startswith(words)


def test_what_a_pair_s_layers_give_is_said() -> None:
    plan = GENERATORS["generator, by class"].network_for(16).for_classes(3, 1)
    sentences = {
        node.layer.kind: reason(node.layer, fact)
        for node, fact in zip(plan.nodes, plan.facts((16, 16, 3)), strict=True)
    }
    assert sentences["noise"] == "64 values beside each image, whatever it shows."
    assert sentences["class"] == "3 values beside each image, whatever it shows."
    assert sentences["drawing"] == "The image, as it is drawn."
    assert "real ones" in sentences["real or drawn"]
    assert sentences["output"] == "One score."
