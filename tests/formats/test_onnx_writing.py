"""Models written in the open format answer as they do here: layer by layer, preparation by preparation, as a whole."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import onnx
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from onnx import TensorProto, checker, helper
from onnx.reference import ReferenceEvaluator
from tests.engine.test_gradients import cases

from attentive_lens.engine.encoding import Coder
from attentive_lens.engine.layers import INFERENCE, LAYERS
from attentive_lens.engine.network import Network
from attentive_lens.engine.outputs import OUTPUTS
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.onnx.graph import OPSET, Graph
from attentive_lens.formats.onnx.layers import WRITERS, Placed
from attentive_lens.formats.onnx.preparation import prepared
from attentive_lens.formats.onnx.writing import ANSWERS, graph_of, write_onnx
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.encoders import ENCODERS
from attentive_lens.plan.generators import GENERATORS
from attentive_lens.plan.initialisations import He
from attentive_lens.plan.layers import (
    Add,
    BatchNormalisation,
    Codes,
    Concatenate,
    Connected,
    DoesNotFit,
    Drawing,
    LayerSettings,
    Multiply,
    NormalCodes,
    ParametricRelu,
    RealOrDrawn,
    Reshape,
    ScaleAndShift,
)
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.starters import STARTERS


def run(graph: Graph, output: str, axes: int, **inputs: np.ndarray) -> np.ndarray:
    """What the standard's own evaluator makes of a graph whose output has so many axes."""
    given_ = [
        helper.make_tensor_value_info(name, helper.np_dtype_to_tensor_dtype(array.dtype), array.shape)
        for name, array in inputs.items()
    ]
    out = helper.make_tensor_value_info(output, TensorProto.FLOAT, [None] * axes)
    proto = helper.make_model(
        helper.make_graph(graph.nodes, "g", given_, [out], graph.constants),
        opset_imports=[helper.make_opsetid("", OPSET)],
    )
    checker.check_model(proto)
    return np.asarray(ReferenceEvaluator(proto).run(None, inputs)[0])


def turned(maps: np.ndarray) -> np.ndarray:
    """Channels first."""
    return np.ascontiguousarray(maps.transpose(0, 3, 1, 2)) if maps.ndim == 4 else maps


def both_ways(layer: LayerSettings, inputs: tuple[np.ndarray, ...], seed: int) -> tuple[np.ndarray, np.ndarray]:
    """What a layer with weights of chance makes of its inputs: here, and in the standard (channels first)."""
    random = np.random.default_rng(seed)
    ours: Any = LAYERS[layer.kind]("layer", layer)
    shapes = tuple(each.shape[1:] for each in inputs)
    weights = ours.start(shapes[0], random, np.dtype(np.float32), He())
    weights = {name: array + random.random(array.shape, np.float32) for name, array in weights.items()}
    here, _ = ours.forward(inputs if layer.joins else inputs[0], weights, INFERENCE)
    graph, names = Graph(), tuple(f"in {k}" for k in range(len(inputs)))
    output = WRITERS[layer.kind](graph, Placed("layer", layer, weights, names, shapes))
    there = run(graph, output, here.ndim, **{name: turned(each) for name, each in zip(names, inputs, strict=True)})
    return turned(here), there


def check(layer: LayerSettings, *inputs: np.ndarray, seed: int = 0) -> None:
    here, there = both_ways(layer, inputs, seed)
    assert here.shape == there.shape
    assert np.allclose(here, there, rtol=1e-4, atol=1e-4 * max(1.0, float(np.abs(here).max())))


def test_every_layer_and_output_function_can_be_written() -> None:
    assert WRITERS.keys() == LAYERS.keys()
    assert ANSWERS.keys() == OUTPUTS.keys()


@settings(max_examples=120, deadline=None, database=None)
@given(layer=cases(), rows=st.integers(2, 9), columns=st.integers(2, 9), seed=st.integers(0, 999))
def test_every_layer_of_maps_makes_the_same_there(layer: LayerSettings, rows: int, columns: int, seed: int) -> None:
    maps = np.random.default_rng(seed).standard_normal((4, rows, columns, 4)).astype(np.float32)
    try:
        layer.output_shape(maps.shape[1:])
    except DoesNotFit:
        assume(False)
    check(layer, maps, seed=seed)


def test_layers_that_join_and_those_of_values_make_the_same_there() -> None:
    random = np.random.default_rng(4)
    one, two = (random.standard_normal((2, 5, 4, 3)).astype(np.float32) for _ in range(2))
    factors, values = (random.standard_normal((2, 3)).astype(np.float32) for _ in range(2))
    check(Add(), one, two, one)
    check(Multiply(), one, two)
    check(Multiply(), one, factors, two)
    check(Multiply(), factors, values)
    check(Concatenate(), one, two)
    check(Concatenate(), factors, values)
    for layer in (Connected(units=5), BatchNormalisation(), ScaleAndShift(), ParametricRelu(), Codes()):
        check(layer, values)
    row, maps = (random.standard_normal(shape).astype(np.float32) for shape in ((2, 48), (2, 2, 4, 3)))
    for layer in (NormalCodes(), Reshape(side=4), Drawing(), Codes()):
        check(layer, row)
    for layer in (Reshape(side=2), Drawing()):
        check(layer, maps)
    check(RealOrDrawn(), maps, maps + 1)


@pytest.mark.parametrize("mode", ["stretch", "letterbox", "centre crop", "none"])
@pytest.mark.parametrize("colour", ["RGB", "grey", "luma-chroma"])
@pytest.mark.parametrize("normalisation", ["0-1", "standardise", "local contrast"])
@pytest.mark.parametrize("shape", [(24, 24), (31, 24), (24, 57), (70, 90), (9, 11)])
@pytest.mark.parametrize("size", [24, (24, 37), (35, 24)])
def test_an_image_is_prepared_as_it_is_here(
    mode: str, colour: str, normalisation: str, shape: tuple[int, int], size: int | tuple[int, int]
) -> None:
    random = np.random.default_rng(sum(shape))
    rough = random.random((30, 30, 3))
    pixels = np.kron(rough, np.ones((4, 4, 1)))[: shape[0], : shape[1]] * 250
    image = (pixels + random.random((*shape, 3)) * 5).astype(np.uint8)
    kind = Preprocessing(input_size=size, resize_mode=mode, colour_space=colour, normalisation=normalisation)
    channels = kind.channels
    preprocessor = Preprocessor(kind, (0.3, 0.4, 0.5)[:channels], (0.2, 0.25, 0.3)[:channels])
    here = turned(preprocessor.apply(preprocessor.resized(image)[None]))
    graph = Graph()
    there = run(graph, prepared(graph, "image", preprocessor), 4, image=image[None])
    assert here.shape == there.shape
    apart = np.abs(here - there) / (1 if normalisation == "local contrast" else 1 / (255 * 0.2))
    contrast = 0.1 if size == 24 else 0.5  # a level more or less, which is much where neighbours are alike
    levels = contrast if normalisation == "local contrast" else 1.01
    if shape == kind.sides:
        assert apart.max() < (1e-4 if normalisation == "local contrast" else 0.02), "nothing is rounded on the way"
    elif max(shape) <= 3 * 24:
        assert np.median(apart) < 0.03, "mostly to the level"
        assert np.quantile(apart, 0.99) <= levels
    else:
        assert np.median(apart) <= levels, "blocks are averaged first here"


def made(starter: str, output: str = "softmax", half_of: int = 16) -> ModelFile:
    """A network that was not trained, with figures of chance where training leaves some."""
    random = np.random.default_rng(6)
    preprocessing = Preprocessing(input_size=half_of)
    plan = STARTERS[starter].network_for(half_of, 3).with_outputs(OUTPUTS[output].outputs(2 if "one" in output else 3))
    network = Network.start(plan, preprocessing.shape, 4)
    for arrays in network.weights.values():
        for name in ("mean", "variance", "bias", "shift"):
            if name in arrays:
                arrays[name] = arrays[name] + random.random(arrays[name].shape, np.float32) / 4
    names = ("glatt", "stachlig · spiny", "花粉")[: 2 if "one" in output else 3]
    return ModelFile(
        plan, network.weights, Preprocessor(preprocessing, (0.1, 0.2, 0.3), (0.5, 0.6, 0.7)), names, output
    )


def answers_here(model: ModelFile, images: np.ndarray) -> np.ndarray:
    function = OUTPUTS[model.output]
    raw = model.network().forward(model.preprocessor.apply(images)).outputs[model.plan.nodes[-1].name]
    return function.answers(function.spread(raw))


@pytest.mark.parametrize("starter", STARTERS)
def test_every_starting_network_answers_the_same_there(starter: str, tmp_path: Path) -> None:
    model = made(starter)
    images = np.random.default_rng(1).integers(0, 256, (2, 16, 16, 3)).astype(np.uint8)
    write_onnx(model, tmp_path / "m.onnx")
    there = ReferenceEvaluator(str(tmp_path / "m.onnx")).run(["probabilities"], {"image": images})[0]
    assert np.allclose(there, answers_here(model, images), atol=1e-5)
    assert np.ptp(there) > 1e-3, "answers that are all alike would prove nothing"


@pytest.mark.parametrize("output", OUTPUTS)
def test_answers_come_by_the_model_s_output_function_with_its_names(output: str) -> None:
    model = made("two blocks", output)
    images = np.random.default_rng(1).integers(0, 256, (3, 16, 16, 3)).astype(np.uint8)
    proto = graph_of(model)
    there = np.asarray(ReferenceEvaluator(proto).run(None, {"image": images})[0])
    assert np.allclose(there, answers_here(model, images), atol=1e-5)
    assert proto.graph.output[0].name == ("scores" if output == "none" else "probabilities")
    properties = {each.key: json.loads(each.value) for each in proto.metadata_props}
    assert properties["classes"] == list(model.classes)
    assert properties["preprocessing"]["settings"]["input_size"] == 16


def test_half_the_bits_are_half_the_file_and_nearly_the_same_answers(tmp_path: Path) -> None:
    model = made("two blocks")
    images = np.random.default_rng(1).integers(0, 256, (3, 16, 16, 3)).astype(np.uint8)
    sizes, answers = [], []
    for half in (False, True):
        file = tmp_path / f"{half}.onnx"
        write_onnx(model, file, half)
        sizes.append(file.stat().st_size)
        answers.append(ReferenceEvaluator(str(file)).run(None, {"image": images})[0])
    assert 0.45 < sizes[1] / sizes[0] < 0.62
    wide = {each.name for each in graph_of(model, True).graph.initializer if each.data_type == TensorProto.FLOAT}
    assert not any("/" in name for name in wide), "every array that was learned"
    assert np.abs(answers[0] - answers[1]).max() < 5e-3
    assert not np.array_equal(*answers)


def test_a_kind_of_layer_that_nobody_can_write_is_told_of(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delitem(WRITERS, "max pooling")
    with pytest.raises(BadValue, match="its max pooling «max pooling 1» is written"):
        graph_of(made("two blocks"))


def test_names_in_a_graph_are_never_used_twice(tmp_path: Path) -> None:
    proto = graph_of(made("residual"))
    names = [name for node in proto.graph.node for name in node.output]
    names += [each.name for each in proto.graph.initializer]
    assert len(set(names)) == len(names)
    onnx.checker.check_model(proto, full_check=True)


def test_a_folder_that_is_not_there_is_told_of(tmp_path: Path) -> None:
    with pytest.raises(BadFile, match="could not be written"):
        write_onnx(made("two blocks"), tmp_path / "nowhere" / "m.onnx")
    assert not list(tmp_path.iterdir())


DRAWING = {**ENCODERS, **GENERATORS}


def feeds(model: ModelFile) -> tuple[dict[str, np.ndarray], np.ndarray]:
    """What a model that draws is fed there, by name, for three images; and what it draws of it here."""
    random, coder = np.random.default_rng(2), Coder(model.network())
    if coder.encodes:
        images = random.integers(0, 256, (3, 16, 16, 3)).astype(np.uint8)
        codes = coder.means(coder.encode(model.preprocessor.apply(images)))
        return {"image": images}, coder.decode(codes)
    codes, labels = coder.random_codes(random, 3), np.array([1, 0, 1])
    return {coder.code: codes, **coder.class_values(labels)}, coder.decode(codes, None, labels)


@pytest.mark.parametrize("likelihood", ["gaussian", "free", "bernoulli"])
@pytest.mark.parametrize("name", DRAWING)
def test_networks_that_draw_draw_the_same_there(name: str, likelihood: str, tmp_path: Path) -> None:
    plan = DRAWING[name].network_for(16).for_classes(2, 1)
    if name in ENCODERS:
        drawing = Drawing(mean="free") if likelihood == "free" else Drawing(likelihood=likelihood)
        plan = NetworkPlan((*plan.nodes[:-1], replace(plan.nodes[-1], layer=drawing)))
    network = Network.start(plan, (16, 16, 3), 5)
    preprocessor = Preprocessor(Preprocessing(input_size=16), (0.1, 0.2, 0.3), (0.5, 0.6, 0.7))
    model = ModelFile(plan, network.weights, preprocessor, ("a", "b"), "images")
    write_onnx(model, tmp_path / "model.onnx")
    fed, here = feeds(model)
    evaluator = ReferenceEvaluator(str(tmp_path / "model.onnx"))
    assert set(evaluator.input_names) == set(fed)
    assert evaluator.output_names == ["drawn"]
    there = np.asarray(evaluator.run(None, fed)[0])
    assert there.shape == here.shape == (3, 16, 16, 3)
    assert np.ptp(here, axis=0).max() > 1e-3, "drawings that do not depend on what is fed prove nothing"
    assert np.abs(there - here).max() < 1e-5
