"""What reckons with values wherever they stand: units, sums and products, matrices, answers."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

import numpy as np

from attentive_lens.errors import BadValue
from attentive_lens.formats.onnx.operators import Node, Values
from attentive_lens.formats.onnx.operators.elementwise import SELU
from attentive_lens.formats.onnx.recognising import Live, Recogniser
from attentive_lens.formats.onnx.rules.base import UNBOUNDED, Rule, fitting, made, same
from attentive_lens.plan import layers as kinds
from attentive_lens.plan.layers import LayerSettings


def parametric_relu(to: Recogniser, node: Node) -> None:
    """A slope for all, or for each channel."""
    source = to.taken(node)
    slope = to.channels(node, source, to.array(node, 1))
    layer = kinds.ParametricRelu(shared=slope.size == 1)
    made(to, node, to.add(layer, (source,), {"slope": slope}, source.standing, source.order))


def clip(to: Recogniser, node: Node) -> None:
    """Between limits that are attributes, or arrays of the graph's own."""
    source = to.taken(node)
    if node.version < 11:
        low, high = node.get("min", -UNBOUNDED), node.get("max", UNBOUNDED)
    else:
        limits = to.optional(node, 1), to.optional(node, 2)
        low, high = (usual if limit is None else float(limit.reshape(-1)[0])
                     for limit, usual in zip(limits, (-UNBOUNDED, UNBOUNDED), strict=True))  # fmt: skip
    low, high = max(low, -UNBOUNDED), min(high, UNBOUNDED)
    layer = (
        kinds.Relu() if low == 0 and high == UNBOUNDED else fitting(to, node, partial(kinds.Clip, low=low, high=high))
    )
    made(to, node, to.add(layer, (source,), None, source.standing, source.order))


def _hard_gate(to: Recogniser, source: Live, slope: float, offset: float) -> Live:
    line = to.scaled(source, slope, offset)
    return to.add(kinds.Clip(low=0.0, high=1.0), (line,), None, source.standing, source.order)


def selu(to: Recogniser, node: Node) -> None:
    """An exponential unit times a factor."""
    alpha, gamma = node.get("alpha", SELU[0]), node.get("gamma", SELU[1])
    source = to.taken(node)
    unit = to.add(fitting(to, node, partial(kinds.Elu, alpha=alpha)), (source,), None, source.standing, source.order)
    made(to, node, to.scaled(unit, gamma, 0.0))


def celu(to: Recogniser, node: Node) -> None:
    """An exponential unit of what is divided by a number, times that number."""
    alpha, source = node.get("alpha", 1.0), to.taken(node)
    if not alpha:
        raise to.refused(node, "its alpha is 0")
    narrow = to.scaled(source, 1 / alpha, 0.0)
    unit = to.add(kinds.Elu(), (narrow,), None, source.standing, source.order)
    made(to, node, to.scaled(unit, alpha, 0.0))


def hard_sigmoid(to: Recogniser, node: Node) -> None:
    """A line, held between 0 and 1."""
    made(to, node, _hard_gate(to, to.taken(node), node.get("alpha", 0.2), node.get("beta", 0.5)))


def hard_swish(to: Recogniser, node: Node) -> None:
    """Times such a line."""
    source = to.taken(node)
    gate = _hard_gate(to, source, 1 / 6, 0.5)
    made(to, node, to.add(kinds.Multiply(), (source, gate), None, source.standing, source.order))


def connected(to: Recogniser, node: Node) -> None:
    """A row of values times a matrix; the matrix follows the order in which the values stand here."""
    source = to.taken(node)
    matrix = to.array(node, 1).astype(np.float32)
    scale, bias = 1.0, None
    if node.operator == "Gemm":
        if node.get("transA", 0):
            raise to.refused(node, "it turns its input")
        matrix = matrix.T if node.get("transB", 0) else matrix
        scale, bias = node.get("alpha", 1.0), to.optional(node, 2)
    if source.standing != source.shape or matrix.ndim != 2 or len(matrix) != source.shape[0]:
        raise to.refused(node, f"a matrix of the shape {matrix.shape} does not take {source.standing}")
    if source.order is not None:
        matrix = matrix[source.order]
    units = matrix.shape[1]
    offset = np.zeros(units) if bias is None else np.broadcast_to(bias.reshape(-1), units) * node.get("beta", 1.0)
    layer = fitting(to, node, partial(kinds.Connected, units=units))
    made(to, node, to.add(layer, (source,), {"matrix": matrix * scale, "bias": offset}))


def _numbers(to: Recogniser, node: Node) -> tuple[Live, Values, bool]:
    """What hangs on the image, the array beside it in our order, and whether the array comes first."""
    first = node.inputs[0] not in to.live
    source = to.taken(node, int(first))
    return source, to.channels(node, source, to.array(node, int(not first)).astype(np.float32)), first


def _two_live(to: Recogniser, node: Node) -> bool:
    return all(name in to.live for name in node.inputs) and len(node.inputs) > 1


def _joined(to: Recogniser, node: Node, layer: LayerSettings, sources: tuple[Live, ...]) -> None:
    orders = [None if each.order is None else each.order.tolist() for each in sources]
    if any(order != orders[0] for order in orders):
        raise to.refused(node, "its inputs have their values in different orders")
    if any(not each.is_map and len(each.standing) != len(sources[0].standing) for each in sources):
        raise to.refused(node, "its inputs do not have the same axes")
    try:
        made(to, node, to.add(layer, sources, None, sources[0].standing, sources[0].order))
    except BadValue as error:
        raise to.refused(node, error.why) from None


def plus(to: Recogniser, node: Node) -> None:
    """Of several values, or a number a channel; a bias goes into the layer that it belongs to."""
    if _two_live(to, node):
        _joined(to, node, kinds.Add(), tuple(to.taken(node, k) for k in range(len(node.inputs))))
        return
    if len(node.inputs) != 2:
        raise to.refused(node, "it adds arrays of its own and values at once")
    source, numbers, first = _numbers(to, node)
    last = to.layers[-1] if to.layers else None
    own = isinstance(last.layer, kinds.Connected | kinds.Convolution) if last is not None else False
    if last is not None and own and last.name == source.node and to.is_last_use(node.inputs[int(first)]):
        bias = to.weights[last.name]["bias"]
        to.weights[last.name]["bias"] = (bias + numbers).astype(np.float32)
        made(to, node, source)
        return
    made(to, node, to.scaled(source, 1.0, numbers))


def minus(to: Recogniser, node: Node) -> None:
    """Of a number a channel, or the second value turned and added."""
    if _two_live(to, node):
        one, other = to.taken(node), to.taken(node, 1)
        _joined(to, node, kinds.Add(), (one, to.scaled(other, -1.0, 0.0)))
        return
    source, numbers, first = _numbers(to, node)
    made(to, node, to.scaled(source, -1.0, numbers) if first else to.scaled(source, 1.0, -numbers))


def times(to: Recogniser, node: Node) -> None:
    """Of values, one of which may be a factor for whole maps; or a number a channel."""
    if _two_live(to, node):
        sources = tuple(to.taken(node, k) for k in range(len(node.inputs)))
        maps_first = tuple(sorted(sources, key=lambda live: not live.is_map))
        _joined(to, node, kinds.Multiply(), maps_first)
        return
    source, numbers, _ = _numbers(to, node)
    made(to, node, to.scaled(source, numbers, 0.0))


def negated(to: Recogniser, node: Node) -> None:
    """Times −1."""
    made(to, node, to.scaled(to.taken(node), -1.0, 0.0))


def divided(to: Recogniser, node: Node) -> None:
    """By a number a channel."""
    if _two_live(to, node):
        raise to.refused(node, "it divides by what hangs on the image")
    source, numbers, first = _numbers(to, node)
    if first or not np.all(numbers):
        raise to.refused(node, "it divides by what hangs on the image, or by zero")
    made(to, node, to.scaled(source, 1 / numbers, 0.0))


def concatenate(to: Recogniser, node: Node) -> None:
    """Channels behind each other."""
    if not _two_live(to, node) or node.get("axis", 1) not in (1, -len(to.live[node.inputs[0]].standing)):
        raise to.refused(node, "it does not lay channels of values behind each other")
    sources = tuple(to.taken(node, k) for k in range(len(node.inputs)))
    if any(each.order is not None for each in sources):
        raise to.refused(node, "it lays rows behind each other that were maps")
    try:
        live = to.add(kinds.Concatenate(), sources)
    except BadValue as error:
        raise to.refused(node, error.why) from None
    made(to, node, replace(live, standing=(live.shape[-1], *sources[0].standing[1:])))


def answers(output: str) -> Rule:
    """At the end: what makes answers of the scores. Before it, a layer."""

    def rule(to: Recogniser, node: Node) -> None:
        source = to.taken(node)
        ends = node.outputs[0] in to.model.outputs and to.is_end(node.outputs[0])
        axis = node.get("axis", 1 if node.version < 13 else -1)
        if ends and axis in (1, -len(source.standing)):
            to.output = "one sigmoid" if output == "sigmoid" and source.shape == (1,) else output
            made(to, node, to.flattened(source) if source.standing[1:] in ((), (1, 1)) else source)
            return
        if node.operator == "LogSoftmax" or (output == "softmax" and axis not in (1, -len(source.standing))):
            raise to.refused(node, "ours is over channels, and makes no logarithms")
        layer = kinds.Softmax() if output == "softmax" else kinds.Sigmoid()
        made(to, node, to.add(layer, (source,), None, source.standing, source.order))

    return rule


def _gelu(node: Node) -> LayerSettings:
    if node.get("approximate", "none") != "none":
        raise BadValue("The unit is not ours", "it is approximated by a hyperbolic tangent", "Take the exact one")
    return kinds.Gelu()


def _silu(node: Node) -> LayerSettings:
    if node.get("alpha", 1.0) != 1.0:
        raise BadValue("The unit is not ours", f"its alpha is {node.get('alpha')}", "Take 1")
    return kinds.Silu()


ARITHMETIC: dict[str, Rule] = {
    "Relu": same(lambda node: kinds.Relu()),
    "LeakyRelu": same(lambda node: kinds.LeakyRelu(negative_slope=node.get("alpha", 0.01))),
    "PRelu": parametric_relu,
    "Elu": same(lambda node: kinds.Elu(alpha=node.get("alpha", 1.0))),
    "Selu": selu,
    "Celu": celu,
    "Gelu": same(_gelu),
    "Swish": same(_silu),
    "Tanh": same(lambda node: kinds.Tanh()),
    "Sigmoid": answers("sigmoid"),
    "Softmax": answers("softmax"),
    "LogSoftmax": answers("softmax"),
    "HardSigmoid": hard_sigmoid,
    "HardSwish": hard_swish,
    "Clip": clip,
    "Gemm": connected,
    "MatMul": connected,
    "Add": plus,
    "Sum": plus,
    "Sub": minus,
    "Mul": times,
    "Div": divided,
    "Neg": negated,
    "Concat": concatenate,
}
"""By the operator."""
