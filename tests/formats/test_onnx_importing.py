"""Graphs of the open format become layers of ours that answer the same; what cannot is refused by its node."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from onnx import helper, numpy_helper
from tests.engine.test_gradients import cases
from tests.formats.test_onnx_reading import LARGE, small
from tests.formats.test_onnx_writing import answers_here, made

from attentive_lens.engine.network import Network
from attentive_lens.engine.outputs import OUTPUTS
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.onnx import recognising
from attentive_lens.formats.onnx.importing import ALL_SOFTMAX, NO_NAMES, PLAIN, take_in
from attentive_lens.formats.onnx.operators import OPERATORS
from attentive_lens.formats.onnx.reading import OnnxModel, read
from attentive_lens.formats.onnx.recognising import Recogniser
from attentive_lens.formats.onnx.rules import RULES
from attentive_lens.formats.onnx.units import joined
from attentive_lens.formats.onnx.writing import graph_of, write_onnx
from attentive_lens.formats.reading import read_model
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.layers import DoesNotFit, Flatten, GlobalPooling, LayerSettings, Output, PowerPooling
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.starters import STARTERS

IMAGES = np.random.default_rng(1).integers(0, 256, (3, 16, 16, 3)).astype(np.uint8)


def back(model: ModelFile) -> ModelFile:
    return take_in(read(graph_of(model).SerializeToString())).model


def raw(model: ModelFile, images: np.ndarray) -> np.ndarray:
    return np.asarray(model.network().forward(model.preprocessor.apply(images)).outputs[model.plan.nodes[-1].name])


@pytest.mark.parametrize("starter", STARTERS)
def test_every_starting_network_comes_back_with_the_same_answers(starter: str, tmp_path: Path) -> None:
    model = made(starter)
    write_onnx(model, tmp_path / "m.onnx")
    again = read_model(tmp_path / "m.onnx")
    assert np.array_equal(raw(again, IMAGES), raw(model, IMAGES))
    assert again.preprocessor == model.preprocessor
    assert (again.classes, again.output) == (model.classes, model.output)
    left_out = {"dropout"}
    assert [n.layer.kind for n in again.plan.nodes] == [
        n.layer.kind for n in model.plan.nodes if n.layer.kind not in left_out
    ]
    again.write(tmp_path / "again.alens")
    assert np.array_equal(answers_here(read_model(tmp_path / "again.alens"), IMAGES), answers_here(model, IMAGES))


@pytest.mark.parametrize("output", OUTPUTS)
def test_every_output_function_comes_back(output: str) -> None:
    model = made("two blocks", output)
    again = back(model)
    assert np.allclose(answers_here(again, IMAGES), answers_here(model, IMAGES), atol=1e-6)
    assert again.output == (output if output != "one sigmoid" else "softmax"), "two scores make the same answers"


@settings(max_examples=150, deadline=None, database=None)
@given(layer=cases(), side=st.integers(5, 9), seed=st.integers(0, 99))
def test_every_layer_comes_back(layer: LayerSettings, side: int, seed: int) -> None:
    power = isinstance(layer, PowerPooling) or (isinstance(layer, GlobalPooling) and layer.mode == "power mean")
    uneven = layer.kind == "average pooling" and layer.ceil_mode  # type: ignore[attr-defined]
    pads = getattr(layer, "pads", ((0, 0), (0, 0)))
    if layer.kind == "average pooling" and len({pad for each in pads for pad in each}) > 1:
        uneven = True
    kind = Preprocessing(input_size=side)
    first = STARTERS["two blocks"].network.nodes[0].layer.with_(filters=4)
    try:
        maps = layer.output_shape(first.output_shape(kind.shape))
        parts = [first, layer, *([Flatten()] if len(maps) == 3 else []), Output(units=3)]
        plan = NetworkPlan.stack(parts)
        plan.facts(kind.shape)
    except DoesNotFit:
        assume(False)
    network = Network.start(plan, kind.shape, seed)
    random = np.random.default_rng(seed)
    for arrays in network.weights.values():
        for name in arrays:
            arrays[name] = arrays[name] + random.random(arrays[name].shape, np.float32) / 4
    model = ModelFile(plan, network.weights, Preprocessor.plain(kind), ("a", "b", "c"))
    if power or uneven or layer.kind == "reshape":  # written in operators that no layer of ours is, or not taken in
        with pytest.raises(BadFile, match="no layer of ours"):
            back(model)
        return
    images = random.integers(0, 256, (2, side, side, 3)).astype(np.uint8)
    want, got = raw(model, images), raw(back(model), images)
    assert np.allclose(got, want, rtol=1e-4, atol=1e-4 * max(1.0, float(np.abs(want).max())))


def drawn(model: OnnxModel) -> OnnxModel:
    """The same graph with weights of chance in place of equal ones."""
    random, arrays, nodes = np.random.default_rng(0), dict(model.arrays), []
    for node in model.nodes:
        if node.operator != "ConstantOfShape":
            nodes.append(node)
            continue
        shape = tuple(int(side) for side in arrays[node.inputs[0]])
        fan = max(1, int(np.prod(shape[1:])))
        own = random.standard_normal(shape) * np.sqrt(2 / fan) if len(shape) > 1 else 1 + random.random(shape) / 2
        arrays[node.outputs[0]] = own.astype(np.float32)
    return replace(model, nodes=tuple(nodes), arrays=arrays)


@pytest.mark.parametrize("number", range(len(LARGE)))
def test_large_graphs_of_others_answer_as_they_do_as_they_are(number: int) -> None:
    model = drawn(read(LARGE[number]))
    ((name, sides),) = model.inputs.items()
    _, channels, rows, columns = (side or 0 for side in sides)
    maker = Recogniser(model, name, (rows, columns, channels))
    ours = maker.network(RULES)
    image = np.random.default_rng(0).standard_normal((1, channels, rows, columns)).astype(np.float32)
    trace = Network(ours.plan, ours.image, ours.weights).forward(np.ascontiguousarray(image.transpose(0, 2, 3, 1)))
    got = trace.outputs["output"]
    if model.nodes[-1].operator == "Softmax":
        got = OUTPUTS["softmax"].answers(got)
    want = model.run({name: image})[model.outputs[0]].reshape(got.shape)
    assert np.ptp(want) > 1e-3
    assert np.allclose(got, want, rtol=1e-3, atol=1e-5 * float(np.abs(want).max()))


def classifier(*nodes: object, opset: int = 17, **arrays: np.ndarray) -> OnnxModel:
    """From «x», 1×2×4×4, by nodes to «h», and on to three scores."""
    arrays = {"m": np.random.default_rng(2).standard_normal((32, 3)).astype(np.float32), **arrays}
    rest = [helper.make_node("Flatten", ["h"], ["f"]), helper.make_node("MatMul", ["f", "m"], ["y"])]
    proto = small(*nodes, *rest, opset=opset, **arrays)  # type: ignore[arg-type]
    return read(proto.SerializeToString())


def both(model: OnnxModel) -> tuple[np.ndarray, np.ndarray]:
    """What it gives as it is, and as layers of ours."""
    ours = Recogniser(joined(model), "x", (4, 4, 2)).network(RULES)
    image = np.random.default_rng(3).standard_normal((1, 2, 4, 4)).astype(np.float32) * 3
    trace = Network(ours.plan, ours.image, ours.weights).forward(np.ascontiguousarray(image.transpose(0, 2, 3, 1)))
    return model.run({"x": image})["y"], trace.outputs["output"]


TWO, MAP = np.array([[[0.5]], [[-2.0]]], np.float32), np.ones((1, 2, 4, 4), np.float32)
FILTERS = np.random.default_rng(5).standard_normal((2, 2, 3, 3)).astype(np.float32)
SMALL_GRAPHS = {
    "a number a channel": [("Mul", ["x", "two"], {}), ("Add", ["two", "1"], {}), ("Sub", ["2", "two"], {}),
                           ("Sub", ["two", "3"], {}), ("Div", ["4", "two"], {})],
    "hard gates": [("HardSigmoid", ["x"], {"alpha": 0.3}), ("HardSwish", ["1"], {})],
    "clipped": [("Clip", ["x", "low", "high"], {}), ("LeakyRelu", ["1"], {"alpha": 0.2})],
    "units": [("PRelu", ["x", "two"], {}), ("Elu", ["1"], {}), ("Gelu", ["2"], {}), ("Swish", ["3"], {}),
              ("Tanh", ["4"], {}), ("Neg", ["5"], {})],
    "exponential units": [("Selu", ["x"], {}), ("Celu", ["1"], {"alpha": 0.7}),
                          ("Selu", ["2"], {"alpha": 1.2, "gamma": 0.6})],
    "a gate": [("Sigmoid", ["x"], {}), ("Mul", ["1", "x"], {}), ("Sub", ["2", "x"], {}), ("Sum", ["3", "x", "2"], {})],
    "a border, then filters": [("Pad", ["x", "pads"], {}), ("Conv", ["1", "w"], {}), ("Dropout", ["2"], {})],
    "automatic padding": [("Conv", ["x", "w"], {"auto_pad": "SAME_UPPER"}), ("Add", ["1", "two"], {})],
    "squeezed and back": [("GlobalAveragePool", ["x"], {}), ("Conv", ["1", "one"], {}), ("Sigmoid", ["2"], {}),
                          ("Mul", ["x", "3"], {})],
    "channels in another order": [("Conv", ["x", "six"], {}), ("Reshape", ["1", "in groups"], {}),
                                  ("Transpose", ["2"], {"perm": [0, 2, 1, 3, 4]}), ("Reshape", ["3", "again"], {}),
                                  ("Conv", ["4", "down"], {"group": 2})],
    "means over borders": [("AveragePool", ["x"], {"kernel_shape": [3, 3], "pads": [1, 1, 1, 1],
                                                  "count_include_pad": 1}),
                          ("AveragePool", ["1"], {"kernel_shape": [2, 2], "pads": [1, 0, 0, 1],
                                                  "count_include_pad": 1})],
    "means over what lies on the map": [("AveragePool", ["x"], {"kernel_shape": [3, 3], "pads": [1, 1, 1, 1]}),
                                        ("AveragePool", ["1"], {"kernel_shape": [1, 1], "count_include_pad": 1})],
    "by its own figures": [("InstanceNormalization", ["x", "s", "b"], {})],
}  # fmt: skip
ARRAYS = {
    "two": TWO, "low": np.float32(-1), "high": np.float32(0.5), "w": FILTERS, "one": FILTERS[:, :, :1, :1],
    "pads": np.array([0, 0, 1, 1, 0, 0, 1, 1], np.int64), "s": np.array([2, 3], np.float32),
    "b": np.array([1, -1], np.float32),
    "six": np.random.default_rng(6).standard_normal((6, 2, 1, 1)).astype(np.float32),
    "in groups": np.array([1, 3, 2, 4, 4]), "again": np.array([-1, 6, 4, 4]),
    "down": np.random.default_rng(7).standard_normal((2, 3, 1, 1)).astype(np.float32),
}  # fmt: skip


@pytest.mark.parametrize("name", SMALL_GRAPHS)
def test_what_is_written_out_in_small_operators_becomes_layers(name: str) -> None:
    steps = SMALL_GRAPHS[name]
    nodes = [
        helper.make_node(operator, inputs, ["h" if k == len(steps) else str(k)], **more)
        for k, (operator, inputs, more) in enumerate(steps, 1)
    ]
    for node in nodes:
        if node.op_type in ("Gelu", "Swish"):
            assert node.op_type in RULES
    used = {each for _, inputs, _ in steps for each in inputs}
    arrays = {key: np.asarray(value) for key, value in ARRAYS.items() if key in used}
    want, got = both(classifier(*nodes, opset=24, **arrays))
    assert np.ptp(want) > 1e-3
    assert np.allclose(got, want, rtol=1e-4, atol=1e-4)


@pytest.mark.parametrize(
    ("operator", "inputs", "more", "why"),
    [
        ("Conv", ["x", "w"], {"strides": [1, 2]}, "its stride is (1, 2)"),
        ("Conv", ["x", "w"], {"pads": [0, 0, 99, 0]}, "padding_width"),
        (
            "AveragePool",
            ["x"],
            {"kernel_shape": [2, 2], "pads": [1, 1, 1, 1], "count_include_pad": 1, "ceil_mode": 1},
            "beside the map",
        ),
        ("MaxPool", ["x"], {"kernel_shape": [2, 2], "dilations": [2, 2]}, "its window has gaps"),
        ("Mul", ["x", "map"], {}, "is not one number a channel"),
        ("Div", ["two", "x"], {}, "it divides by what hangs on the image"),
        ("Transpose", ["x"], {"perm": [0, 2, 1, 3]}, "it puts axes in the order [0, 2, 1, 3]"),
        ("Reshape", ["x", "odd"], {}, "which is no single row"),
        ("Cast", ["x"], {"to": 7}, "it makes whole numbers"),
        ("Dropout", ["x", "low", "yes"], {}, "it drops values"),
        ("BatchNormalization", ["x", "s", "s", "s", "s"], {"training_mode": 1}, "the batch's figures"),
        ("LRN", ["x"], {"size": 0}, "does not fit"),
        ("ReduceMean", ["x"], {"axes": [1]}, "it is not over rows and columns"),
        ("Gelu", ["x"], {"approximate": "tanh"}, "approximated"),
        ("Erf", ["x"], {}, "it can only be run as it is"),
        ("LogSoftmax", ["x"], {"axis": 1}, "makes no logarithms"),
        ("Softmax", ["x"], {"axis": 2}, "ours is over channels"),
        ("Pad", ["x", "pads"], {"mode": "reflect"}, "a border of one number"),
        ("Concat", ["x", "x"], {"axis": 2}, "does not lay channels"),
        ("Concat", ["x", "map"], {"axis": 1}, "does not lay channels"),
    ],
)
def test_what_is_no_layer_of_ours_is_refused_by_its_node(
    operator: str, inputs: list[str], more: dict[str, object], why: str
) -> None:
    node = helper.make_node(operator, inputs, ["h"], name="odd", **more)
    known = {**ARRAYS, "map": MAP, "odd": np.array([1, 4, 2, 4]), "yes": np.array(True)}
    arrays = {key: np.asarray(value) for key, value in known.items() if key in inputs}
    with pytest.raises(BadFile) as caught:
        Recogniser(classifier(node, **arrays), "x", (4, 4, 2)).network(RULES)
    assert f"its {operator} «odd» is no layer of ours" in str(caught.value)
    assert why in str(caught.value)


def test_windows_of_means_that_nobody_can_mean_are_refused_before_they_are_made() -> None:
    for side in (2**20, 2**40):
        node = helper.make_node("AveragePool", ["x"], ["h"], kernel_shape=[side, side], pads=[1, 1, 1, 1],
                                count_include_pad=1)  # fmt: skip
        with pytest.raises(BadFile, match="AveragePool"):
            Recogniser(classifier(node), "x", (4, 4, 2)).network(RULES)


def test_every_rule_is_of_an_operator_that_can_be_run() -> None:
    assert set(RULES) <= set(OPERATORS)


def of_images(*sides: int | str, names: object = None, **more: object) -> OnnxModel:
    """A classifier of images of these sides, channels first, that says nothing else of itself."""
    matrix = np.random.default_rng(2).standard_normal((3, 4)).astype(np.float32)
    nodes = [helper.make_node("GlobalAveragePool", ["x"], ["p"]), helper.make_node("Flatten", ["p"], ["f"]),
             helper.make_node("Gemm", ["f", "m"], ["y"], **more)]  # fmt: skip
    value = helper.make_tensor_value_info("x", 1, ["n", *sides])
    graph = helper.make_graph(nodes, "g", [value], [helper.make_tensor_value_info("y", 1, None)],
                              [numpy_helper.from_array(matrix, "m")])  # fmt: skip
    proto = helper.make_model(graph, opset_imports=[helper.make_opsetid("", 17)])
    if names is not None:
        helper.set_model_props(proto, {"classes": json.dumps(names)})
    return read(proto.SerializeToString())


def test_what_a_file_does_not_say_is_assumed_and_told() -> None:
    taken = take_in(of_images(3, 12, 12))
    assert taken.assumed == (PLAIN, ALL_SOFTMAX, NO_NAMES)
    assert taken.model.classes == ("class 1", "class 2", "class 3", "class 4")
    assert taken.model.preprocessor.settings.input_size == 12
    named = take_in(of_images(3, 12, 12), ("a", "b", "c", "d"), (0.5,), (0.2, 0.3, 0.4))
    assert named.assumed == (ALL_SOFTMAX,)
    assert (named.model.preprocessor.mean, named.model.preprocessor.std) == ((0.5, 0.5, 0.5), (0.2, 0.3, 0.4))
    assert take_in(of_images(3, 12, 12, names=["w", "x", "y", "z"])).model.classes == ("w", "x", "y", "z")
    assert take_in(of_images(3, 12, 14)).model.preprocessor.settings.input_size == (12, 14)
    assert take_in(of_images(3, "r", "c"), side=20).model.preprocessor.settings.input_size == 20
    assert take_in(of_images(3, 12, 12, names="no list")).model.classes[0] == "class 1"


def test_what_does_not_fit_a_file_is_told() -> None:
    for sides, why in (
        ((5, 12, 12), "1 or 3 channels"),
        ((3, "r", "c"), "Name its side"),
    ):
        with pytest.raises(BadFile, match=why):
            take_in(of_images(*sides))
    model = of_images(3, 12, 12)
    for names in (("a", "b"), ("a", "b", "c", "a")):
        with pytest.raises(BadValue, match="it has 4 classes"):
            take_in(model, names)
    with pytest.raises(BadValue, match="3 channels, and 2 figures"):
        take_in(model, mean=(0.1, 0.2))
    with pytest.raises(BadValue, match="not above 0"):
        take_in(model, std=(0.0,))
    with pytest.raises(BadFile, match="it turns its input"):
        take_in(of_images(3, 12, 12, transA=1))


def test_a_file_of_ours_whose_words_were_changed_is_read_as_one_of_others() -> None:
    model = read(graph_of(made("two blocks")).SerializeToString())
    for words in ("", "no json", "{}", '{"settings": {}, "mean": [0.1], "std": [1], "white": 0}'):
        with pytest.raises(BadFile, match="an image of 1 or 3 channels"):
            take_in(replace(model, properties={**model.properties, "preprocessing": words}))


def test_more_than_can_be_meant_is_not_made_of_a_graph_s_own_arrays(monkeypatch: pytest.MonkeyPatch) -> None:
    filled = [helper.make_node("ConstantOfShape", ["sides"], [f"c{k}"], name=f"filled {k}") for k in range(3)]
    model = classifier(*filled, helper.make_node("Relu", ["x"], ["h"]), sides=np.array([50], np.int64))
    Recogniser(model, "x", (4, 4, 2)).network(RULES)
    monkeypatch.setattr(recognising, "MOST_FOLDED", 120)
    with pytest.raises(BadFile, match=r"its ConstantOfShape «filled 2» .* more is made"):
        Recogniser(model, "x", (4, 4, 2)).network(RULES)


@pytest.mark.parametrize(
    ("steps", "arrays", "why"),
    [
        ([("GlobalAveragePool", ["x"], {}), ("Softmax", ["1"], {})], {}, "ours is over channels"),
        ([("GlobalAveragePool", ["x"], {}), ("Flatten", ["1"], {}), ("Unsqueeze", ["2", "first"], {})],
         {"first": np.array([0, 1])}, "not about rows and columns"),
        ([("ReduceMean", ["x"], {"axes": [2, 3], "keepdims": 0}), ("Mul", ["x", "1"], {})], {}, "the same axes"),
        ([("GlobalAveragePool", ["x"], {}), ("MatMul", ["1", "two by two"], {})],
         {"two by two": np.ones((2, 2), np.float32)}, "does not take"),
        ([("Flatten", ["x"], {}), ("Gemm", ["1", "wide", "bias"], {})],
         {"wide": np.ones((32, 4), np.float32), "bias": np.ones((3, 4), np.float32)}, "what it gets does not fit"),
        ([("InstanceNormalization", ["x", "three", "three"], {}), ("Flatten", ["1"], {}),
          ("MatMul", ["2", "wide"], {})],
         {"three": np.ones(3, np.float32), "wide": np.ones((32, 4), np.float32)}, "it asks for"),
    ],
)  # fmt: skip
def test_what_would_change_its_meaning_is_refused(
    steps: list[tuple[str, list[str], dict[str, object]]], arrays: dict[str, np.ndarray], why: str
) -> None:
    nodes = [
        helper.make_node(operator, inputs, ["y" if k == len(steps) else str(k)], **more)
        for k, (operator, inputs, more) in enumerate(steps, 1)
    ]
    with pytest.raises(BadFile) as caught:
        Recogniser(read(small(*nodes, **arrays).SerializeToString()), "x", (4, 4, 2)).network(RULES)
    assert why in str(caught.value)
