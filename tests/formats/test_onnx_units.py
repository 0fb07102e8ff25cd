"""A unit that others write out with the error function becomes one of ours, and what only looks like it stays."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from onnx import helper, numpy_helper
from tests.formats.test_onnx_importing import both, classifier

from attentive_lens.formats.onnx.operators import Node
from attentive_lens.formats.onnx.reading import OnnxModel
from attentive_lens.formats.onnx.units import joined

GELUS = {
    "halved last": [("Div", ["x", "root"]), ("Erf", ["1"]), ("Add", ["2", "one"]), ("Mul", ["x", "3"]),
                    ("Mul", ["4", "half"])],
    "halved first": [("Mul", ["x", "half"]), ("Mul", ["x", "narrow"]), ("Erf", ["2"]), ("Add", ["one", "3"]),
                     ("Mul", ["1", "4"])],
    "halved between": [("Mul", ["narrow", "x"]), ("Erf", ["1"]), ("Add", ["2", "one"]), ("Mul", ["half", "3"]),
                       ("Mul", ["4", "x"])],
    "divided by two": [("Div", ["x", "root"]), ("Erf", ["1"]), ("Add", ["2", "one"]), ("Div", ["3", "two"]),
                       ("Mul", ["4", "x"])],
}  # fmt: skip
NUMBERS = {"root": math.sqrt(2), "narrow": math.sqrt(0.5), "one": 1.0, "half": 0.5, "two": 2.0}


def written_out(steps: list[tuple[str, list[str]]], **numbers: float) -> OnnxModel:
    nodes = [
        helper.make_node(operator, inputs, ["h" if k == len(steps) else str(k)])
        for k, (operator, inputs) in enumerate(steps, 1)
    ]
    used = {name for _, inputs in steps for name in inputs}
    values = {**NUMBERS, **numbers}
    arrays = {name: np.full((), value, np.float32) for name, value in values.items() if name in used}
    constant = helper.make_node("Constant", [], ["one"], value=numpy_helper.from_array(arrays.pop("one")))
    return classifier(constant, *nodes, **arrays)


@pytest.mark.parametrize("name", GELUS)
def test_a_unit_written_out_with_the_error_function_becomes_one(name: str) -> None:
    model = written_out(GELUS[name])
    assert [node.operator for node in joined(model).nodes if node.operator in ("Gelu", "Erf")] == ["Gelu"]
    want, got = both(model)
    assert np.ptp(want) > 1e-3
    assert np.allclose(got, want, rtol=1e-4, atol=1e-4)


@pytest.mark.parametrize("name", GELUS)
def test_what_is_nearly_such_a_unit_stays_as_it_is(name: str) -> None:
    steps = GELUS[name]
    used = {each for _, inputs in steps for each in inputs} & NUMBERS.keys()
    for number in used:
        model = written_out(steps, **{number: NUMBERS[number] * 1.1})
        assert joined(model) == model, number
    model = written_out(steps)
    for value in [node.outputs[0] for node in model.nodes if node.outputs[0] not in ("one", "h", "f", "y")]:
        again = replace(model, nodes=(*model.nodes, Node("more", "Relu", 14, (value,), ("more",))))
        assert joined(again).nodes == again.nodes or value == "0", f"{value} is taken besides"


def test_units_of_strangers_that_are_no_units_are_left_to_be_refused_in_words() -> None:
    steps = GELUS["halved last"]
    model = written_out(steps)
    for operator, more in (("Mul", ("x",)), ("Mul", ()), ("Add", ("one", "one")), ("Erf", ("x",)), ("Div", ("x",))):
        for count in range(3):
            nodes = tuple(
                replace(node, inputs=(*node.inputs[:count], *more)) if node.operator == operator else node
                for node in model.nodes
            )
            joined(replace(model, nodes=nodes))
    for node in model.nodes:
        joined(replace(model, nodes=tuple(replace(each, outputs=()) if each is node else each for each in model.nodes)))
    zero = written_out(GELUS["divided by two"], two=0.0)
    assert joined(zero) == zero
    deep = {name: np.full((1, 1, 1, 1, 1), array) if name == "half" else array for name, array in model.arrays.items()}
    assert [node.operator for node in joined(replace(model, arrays=deep)).nodes].count("Erf") == 1, "it adds an axis"
