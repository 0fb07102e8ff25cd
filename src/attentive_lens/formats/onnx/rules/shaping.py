"""What only puts values otherwise, or does nothing at inference."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from attentive_lens.formats.onnx.operators import Node
from attentive_lens.formats.onnx.operators.base import whole_numbers
from attentive_lens.formats.onnx.recognising import Recogniser
from attentive_lens.formats.onnx.rules.base import Rule, made, passed
from attentive_lens.plan import layers as kinds


def flatten(to: Recogniser, node: Node) -> None:
    """All of an image in a row."""
    if node.operator == "Flatten" and node.get("axis", 1) != 1:
        raise to.refused(node, "it does not keep images apart")
    made(to, node, to.flattened(to.taken(node)))


def reshape(to: Recogniser, node: Node) -> None:
    """Only into a row."""
    source = to.taken(node)
    shape = whole_numbers(node.get("shape")) if len(node.inputs) < 2 else to.sides(to.array(node, 1))
    count = int(np.prod(source.standing))
    flat = len(shape) == 2 and (shape[1] in (-1, count))
    flat = flat or (len(shape) == 4 and not source.is_map and shape[1] in (-1, count) and shape[2:] == [1, 1])
    if not flat:
        raise to.refused(node, f"it puts {'×'.join(map(str, source.standing))} into {shape}, which is no single row")
    live = to.flattened(source)
    made(to, node, replace(live, standing=(count, 1, 1)) if len(shape) == 4 else live)


def squeezed(to: Recogniser, node: Node) -> None:
    """Rows and columns of 1 come or go."""
    source = to.taken(node)
    if source.is_map and source.shape[:2] != (1, 1):
        raise to.refused(node, "it takes away an axis that is not 1")
    live = to.flattened(source)
    made(to, node, replace(live, standing=(live.shape[0], 1, 1)) if node.operator == "Unsqueeze" else live)


def turned(to: Recogniser, node: Node) -> None:
    """Only what stands as it is here already: channels last, before what reads a row of them."""
    source = to.taken(node)
    order = node.get("perm")
    if source.is_map and order == [0, 2, 3, 1]:
        live = to.add(kinds.Flatten(), (source,), None, (int(np.prod(source.shape)),))
        made(to, node, live)
        return
    raise to.refused(node, f"it puts axes in the order {order}")


def shape_of(to: Recogniser, node: Node) -> None:
    """Of one image: how many there are is open."""
    source = to.live[node.inputs[0]]
    whole_shape = np.array([1, *source.standing], np.int64)
    to.known[node.outputs[0]] = whole_shape[node.get("start", 0) : node.get("end")]


SHAPING: dict[str, Rule] = {
    "Identity": passed,
    "Dropout": passed,
    "Cast": passed,
    "Flatten": flatten,
    "Reshape": reshape,
    "Squeeze": squeezed,
    "Unsqueeze": squeezed,
    "Transpose": turned,
    "Shape": shape_of,
}
"""By the operator."""
