"""A model as a file of the standard: preprocessing, layers and output function in one graph, and the class names."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from onnx import ModelProto, TensorProto, checker, helper

from attentive_lens.core.files import write_bytes
from attentive_lens.errors import BadValue
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.onnx.graph import COUNT, OPSET, Graph
from attentive_lens.formats.onnx.layers import WRITERS, Placed
from attentive_lens.formats.onnx.preparation import prepared
from attentive_lens.images.pixel_format import EIGHT
from attentive_lens.plan.layers import Shape
from attentive_lens.plan.layers.coding import NO_LIKELIHOOD
from attentive_lens.plan.nodes import IMAGE

INPUT = "image"
"""Name of the input."""
PROBABILITIES, SCORES, DRAWN = "probabilities", "scores", "drawn"
"""Name of the output, of one that is no probabilities, and of images."""


def _one_sigmoid(graph: Graph, scores: str, name: str) -> str:
    half = graph.add("Mul", scores, graph.constant(0.5))
    return graph.add("Softmax", graph.add("Concat", graph.add("Neg", half), half, axis=1), name=name, axis=1)


ANSWERS: dict[str, Callable[[Graph, str, str], str]] = {
    "softmax": lambda graph, scores, name: graph.add("Softmax", scores, name=name, axis=1),
    "sigmoid": lambda graph, scores, name: graph.add("Sigmoid", scores, name=name),
    "one sigmoid": _one_sigmoid,
    "none": lambda graph, scores, name: graph.add("Identity", scores, name=name),
}
"""By the output function: adds its nodes to the raw scores, and gives the name of the answers."""


def graph_of(model: ModelFile, half: bool = False) -> ModelProto:
    """A model as the standard's graph.

    Parameters
    ----------
    model : ModelFile
        What is written.
    half : bool
        Whether weights are stored in 16 bits.

    Returns
    -------
    ModelProto
        Input ``image``: N×H×W×3 uint8, red, green and blue, of any size; of a model for other pixels N×H×W×C uint8, or
        float32 of values as they are stored. Output ``probabilities``, or ``scores`` where
        the loss makes none: N×K float32, in the order of the property ``classes``, a JSON list of names. One that
        draws has the output ``drawn``: N×H×W×C float32, 0 to 1, of the image by its codes; or a generator has, in place
        of the image, inputs under the names of its nodes: noise N×D, and classes N×K, 1 for each image's own.

    Raises
    ------
    BadValue
        If it has a kind of layer that is not in `WRITERS`.
    """
    graph, plan = Graph(half), model.plan
    needed = plan.up_to(plan.drawing.name) if model.draws else {node.name for node in plan.nodes}
    outputs: dict[str, str] = {}
    if any(IMAGE in node.after and not node.layer.is_input for node in plan.nodes if node.name in needed):
        pixel_format = model.preprocessor.pixel_format
        stored = TensorProto.UINT8 if pixel_format.depth == EIGHT else TensorProto.FLOAT
        graph.add_input(INPUT, ("rows", "columns", len(pixel_format.channels) or 3), stored)
        outputs[IMAGE] = prepared(graph, INPUT, model.preprocessor)
    shapes: dict[str, Shape] = {IMAGE: model.preprocessor.settings.shape}
    for node, facts in zip(plan.nodes, plan.facts(model.preprocessor.settings.shape), strict=True):
        if node.name not in needed:
            continue
        weights = {name: np.asarray(array, np.float32) for name, array in model.weights.get(node.name, {}).items()}
        inputs, given = tuple(outputs.get(name, "") for name in node.after), tuple(shapes[name] for name in node.after)
        writer = WRITERS.get(node.layer.kind)
        if writer is None:
            why = f"nobody has said how its {node.layer.kind} «{node.name}» is written in the standard's operators"
            raise BadValue("The model was not written as ONNX", why, "Export its weights alone")
        outputs[node.name] = writer(graph, Placed(node.name, node.layer, weights, inputs, given))
        shapes[node.name] = facts.shape
    shape: Shape = (len(model.classes),)
    if model.draws:
        answers, shape = _drawn(graph, plan.drawing.layer, outputs[plan.drawing.name]), shapes[plan.drawing.name]
    else:
        named = SCORES if model.output == "none" else PROBABILITIES
        answers = ANSWERS[model.output](graph, outputs[plan.nodes[-1].name], named)
    answer = helper.make_tensor_value_info(answers, TensorProto.FLOAT, [COUNT, *shape])
    body = helper.make_graph(graph.nodes, "model", graph.inputs, [answer], graph.constants)
    proto = helper.make_model(body, opset_imports=[helper.make_opsetid("", OPSET)], producer_name="attentive-lens")
    proto.ir_version = helper.find_min_ir_version_for(proto.opset_import)
    own = model.preprocessor
    preprocessing = {"settings": own.settings.write(), "mean": own.mean, "std": own.std, **own.pixel_format.to_table()}
    properties: dict[str, object] = {"classes": list(model.classes), "preprocessing": preprocessing}
    if model.several:
        properties["thresholds"] = list(model.thresholds)
    proto.doc_string = own.settings.caution_of_files
    helper.set_model_props(proto, {name: json.dumps(each, ensure_ascii=False) for name, each in properties.items()})
    return proto


def _drawn(graph: Graph, drawing: Any, raw: str) -> str:  # Any: the plan says that this layer draws
    """Images from what is drawn, as `engine.likelihoods.shown` makes them, channels last."""
    if drawing.likelihood == NO_LIKELIHOOD:
        half = graph.constant(0.5)
        raw = graph.add("Add", graph.add("Mul", raw, half), half)
    if drawing.likelihood == NO_LIKELIHOOD or (drawing.likelihood == "gaussian" and drawing.mean == "free"):
        pixels = graph.add("Clip", raw, graph.constant(0.0), graph.constant(1.0))
    else:
        pixels = graph.add("Sigmoid", raw)
    return graph.add("Transpose", pixels, name=DRAWN, perm=[0, 2, 3, 1])


def write_onnx(model: ModelFile, file: Path, half: bool = False) -> None:
    """Write a model, checked against the standard, whole or not at all.

    Raises
    ------
    BadFile
        If the folder cannot be written or the disk is full.
    """
    proto = graph_of(model, half)
    checker.check_model(proto, full_check=True)
    write_bytes(file, proto.SerializeToString())
