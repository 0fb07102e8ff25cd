"""What only puts values otherwise, or does nothing at inference."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from onnx.helper import tensor_dtype_to_np_dtype

from attentive_lens.formats.onnx.operators import Node
from attentive_lens.formats.onnx.operators.base import whole_numbers
from attentive_lens.formats.onnx.recognising import Live, Recogniser
from attentive_lens.formats.onnx.rules.base import Rule, made, passed
from attentive_lens.plan import layers as kinds


def flatten(to: Recogniser, node: Node) -> None:
    """All of an image in a row."""
    if node.operator == "Flatten" and node.get("axis", 1) != 1:
        raise to.refused(node, "it does not keep images apart")
    made(to, node, to.flattened(to.taken(node)))


def reshape(to: Recogniser, node: Node) -> None:
    """Into a row; or channels into groups of them, and together again."""
    shape = whole_numbers(node.get("shape")) if len(node.inputs) < 2 else to.sides(to.array(node, 1))
    whole = to.live[node.inputs[0]]
    if whole.parts:
        _together(to, node, whole, shape)
        return
    source = to.taken(node)
    if (
        source.is_map
        and len(shape) == 5
        and shape[3:] == list(source.shape[:2])
        and shape[1] * shape[2] == source.shape[2]
    ):
        made(to, node, replace(source, standing=tuple(shape[1:]), parts=(shape[1], shape[2])))
        return
    count = int(np.prod(source.standing))
    flat = len(shape) == 2 and (shape[1] in (-1, count))
    flat = flat or (len(shape) == 4 and not source.is_map and shape[1] in (-1, count) and shape[2:] == [1, 1])
    if not flat:
        raise to.refused(node, f"it puts {'×'.join(map(str, source.standing))} into {shape}, which is no single row")
    live = to.flattened(source)
    made(to, node, replace(live, standing=(count, 1, 1)) if len(shape) == 4 else live)


def _together(to: Recogniser, node: Node, source: Live, shape: list[int]) -> None:
    """Groups become channels again: where they changed places, by a convolution that puts each channel in its own."""
    rows, columns, count = source.shape
    if len(shape) != 4 or shape[1] not in (-1, count) or shape[2:] != [rows, columns]:
        raise to.refused(node, f"groups of channels do not come together in {shape}")
    plain = replace(source, parts=(), is_shuffled=False, standing=(count, rows, columns))
    if source.is_shuffled:
        before = np.arange(count).reshape(source.parts[::-1]).T.reshape(-1)
        kernel = np.zeros((1, 1, count, count), np.float32)
        kernel[0, 0, before, np.arange(count)] = 1
        layer = kinds.Convolution(filters=count, kernel_size=1, padding="valid")
        plain = to.add(layer, (plain,), {"kernel": kernel, "bias": np.zeros(count)})
    made(to, node, plain)


def cast(to: Recogniser, node: Node) -> None:
    """To numbers with a fraction, which all of ours are."""
    if np.dtype(tensor_dtype_to_np_dtype(node.get("to"))).kind != "f":
        raise to.refused(node, "it makes whole numbers of values")
    passed(to, node)


def dropout(to: Recogniser, node: Node) -> None:
    """Nothing, where it is not asked to drop values."""
    if len(node.inputs) > 2 and node.inputs[2] and bool(to.array(node, 2).any()):
        raise to.refused(node, "it drops values, as in training")
    passed(to, node)


def squeezed(to: Recogniser, node: Node) -> None:
    """Rows and columns of 1 come or go."""
    source = to.taken(node)
    axes = node.get("axes") if len(node.inputs) < 2 else to.array(node, 1)
    sides = 4 if node.operator == "Unsqueeze" else len(source.standing) + 1
    if axes is not None and sorted(axis % sides for axis in whole_numbers(axes)) != [2, 3]:
        raise to.refused(node, "it is not about rows and columns")
    if source.is_map and source.shape[:2] != (1, 1):
        raise to.refused(node, "it takes away an axis that is not 1")
    live = to.flattened(source)
    made(to, node, replace(live, standing=(live.shape[0], 1, 1)) if node.operator == "Unsqueeze" else live)


def turned(to: Recogniser, node: Node) -> None:
    """Groups of channels change places; or channels come last, as they are here, before what reads a row of them."""
    order, whole = node.get("perm"), to.live[node.inputs[0]]
    if whole.parts and order == [0, 2, 1, 3, 4]:
        parts, turned_ = whole.parts[::-1], not whole.is_shuffled
        made(to, node, replace(whole, parts=parts, is_shuffled=turned_, standing=(*parts, *whole.standing[2:])))
        return
    source = to.taken(node)
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
    "Dropout": dropout,
    "Cast": cast,
    "Flatten": flatten,
    "Reshape": reshape,
    "Squeeze": squeezed,
    "Unsqueeze": squeezed,
    "Transpose": turned,
    "Shape": shape_of,
}
"""By the operator."""
