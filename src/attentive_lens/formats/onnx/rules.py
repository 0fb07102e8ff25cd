"""How the nodes of the standard become layers of ours: a rule for each operator."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

import numpy as np

from attentive_lens.errors import BadValue
from attentive_lens.formats.onnx.operators import Node, Values
from attentive_lens.formats.onnx.operators.base import whole_numbers
from attentive_lens.formats.onnx.operators.windows import Window, window_of
from attentive_lens.formats.onnx.recognising import Live, Recogniser
from attentive_lens.plan import layers as kinds
from attentive_lens.plan.layers import LayerSettings
from attentive_lens.plan.layers.base import Sides

Rule = Callable[[Recogniser, Node], None]
UNBOUNDED = 1e6
"""What stands for a limit that is left out."""


def _made(to: Recogniser, node: Node, live: Live) -> None:
    """What a node makes."""
    to.live[node.outputs[0]] = live


def _fitting(to: Recogniser, node: Node, make: Callable[[], LayerSettings]) -> LayerSettings:
    """Settings of a layer; refused by the node where they are beyond what the layer takes."""
    try:
        return make()
    except BadValue as error:
        raise to.refused(node, f"{error.what}: {error.why}") from None


def _added(
    to: Recogniser, node: Node, layer: LayerSettings, source: Live, weights: dict[str, Values] | None = None
) -> Live:
    try:
        return to.add(layer, (source,), weights)
    except BadValue as error:
        raise to.refused(node, error.why) from None


def same(make: Callable[[Node], LayerSettings]) -> Rule:
    """A layer whose output is as its input: what is done to every value by itself."""

    def rule(to: Recogniser, node: Node) -> None:
        source = to.taken(node)
        layer = _fitting(to, node, lambda: make(node))
        _made(to, node, to.add(layer, (source,), None, source.standing, source.order))

    return rule


def passed(to: Recogniser, node: Node) -> None:
    """Nothing is done at inference."""
    _made(to, node, to.live[node.inputs[0]])


def _square(to: Recogniser, node: Node, numbers: tuple[int, ...], what: str) -> int:
    if len(set(numbers)) != 1:
        raise to.refused(node, f"its {what} is {numbers}, and ours is the same for rows and columns")
    return numbers[0]


def _sides(window: Window) -> Sides:
    rows, columns = window.sides
    return rows if rows == columns else (rows, columns)


def convolution(to: Recogniser, node: Node) -> None:
    """With what border was laid before it; on one value a channel it is fully connected."""
    source, kernel, bias = to.live[node.inputs[0]], to.array(node, 1), to.optional(node, 2)
    bias = np.zeros(len(kernel), np.float32) if bias is None else bias
    if kernel.ndim != 4:
        raise to.refused(node, f"its filters have {kernel.ndim - 2} axes, and maps have two")
    groups = node.get("group", 1)
    if not source.is_map:
        if kernel.shape[2:] != (1, 1) or groups != 1 or source.order is not None:
            raise to.refused(node, "its filters are larger than the one value a channel that it gets")
        live = to.add(kinds.Connected(units=len(kernel)), (source,), {"matrix": kernel[:, :, 0, 0].T, "bias": bias})
        _made(to, node, replace(live, standing=(len(kernel), 1, 1)))
        return
    window = window_of(node, source.shape[:2], kernel.shape[2:])
    top, left, bottom, right = source.pads
    pads = (window.before[0] + top, window.after[0] + bottom, window.before[1] + left, window.after[1] + right)
    make = partial(
        kinds.Convolution,
        filters=len(kernel),
        kernel_size=_sides(window),
        stride=_square(to, node, window.strides, "stride"),
        padding="explicit" if any(pads) else "valid",
        padding_width=pads if any(pads) else 0,
        dilation=_square(to, node, window.dilations, "dilation"),
        groups=groups,
    )
    layer = _fitting(to, node, make)
    arrays = {"kernel": kernel.transpose(2, 3, 1, 0), "bias": bias}
    _made(to, node, _added(to, node, layer, replace(source, pads=(0, 0, 0, 0)), arrays))


def transposed_convolution(to: Recogniser, node: Node) -> None:
    """Whose output is just the stride larger."""
    source, kernel, bias = to.taken(node), to.array(node, 1), to.optional(node, 2)
    if kernel.ndim != 4 or not source.is_map or node.get("group", 1) != 1 or len(set(kernel.shape[2:])) != 1:
        raise to.refused(node, "ours has square filters, of one group, on maps")
    window = window_of(node, source.shape[:2], kernel.shape[2:])
    stride, side = _square(to, node, window.strides, "stride"), kernel.shape[2]
    make = partial(kinds.TransposedConvolution, filters=kernel.shape[1], kernel_size=side, stride=stride)
    layer = _fitting(to, node, make)
    assert isinstance(layer, kinds.TransposedConvolution)
    before, after = layer.pads
    extra = whole_numbers(node.get("output_padding") or (0, 0))
    ours = [[before] * 2, [after] * 2, [max(0, stride - side)] * 2]
    if (
        [list(window.before), list(window.after), extra] != ours
        or node.get("output_shape")
        or max(window.dilations) > 1
    ):
        raise to.refused(node, "its output is not just the stride larger than its input")
    arrays = {"kernel": kernel.transpose(2, 3, 1, 0), "bias": np.zeros(kernel.shape[1]) if bias is None else bias}
    _made(to, node, _added(to, node, layer, source, arrays))


def pooling(kind: type[kinds.Pooling]) -> Rule:
    """Of windows, over what lies on the map."""

    def rule(to: Recogniser, node: Node) -> None:
        source = to.taken(node)
        if not source.is_map:
            raise to.refused(node, "it looks at rows and columns, and gets values")
        window = window_of(node, source.shape[:2], whole_numbers(node.get("kernel_shape") or ()))
        pads = (window.before[0], window.after[0], window.before[1], window.after[1])
        if max(window.dilations) > 1:
            raise to.refused(node, "its window has gaps")
        if node.get("count_include_pad", 0) and (any(pads) or node.get("ceil_mode", 0)):
            raise to.refused(node, "it counts what lies beside the map")
        if len([name for name in node.outputs if name]) > 1:
            raise to.refused(node, "it tells where the greatest values stood")
        make = partial(
            kind,
            kernel_size=_sides(window),
            stride=_square(to, node, window.strides, "stride"),
            padding_width=pads if any(pads) else 0,
            ceil_mode=bool(node.get("ceil_mode", 0)),
        )
        _made(to, node, _added(to, node, _fitting(to, node, make), source))

    return rule


def whole(mode: str) -> Rule:
    """A figure of each whole map; rows and columns of 1 stay there, and go here."""

    def rule(to: Recogniser, node: Node) -> None:
        source = to.taken(node)
        axes = node.get("axes") if len(node.inputs) < 2 else to.array(node, 1)
        reduces = node.operator.startswith("Reduce")
        if reduces and (axes is None or sorted(axis % 4 for axis in whole_numbers(axes)) != [2, 3]):
            raise to.refused(node, "it is not over rows and columns")
        if not source.is_map:
            raise to.refused(node, "it looks at rows and columns, and gets values")
        live = to.add(kinds.GlobalPooling(mode=mode), (source,))
        stays = not reduces or node.get("keepdims", 1)
        _made(to, node, replace(live, standing=(live.shape[0], 1, 1)) if stays else live)

    return rule


def batch_normalisation(to: Recogniser, node: Node) -> None:
    """By the running figures."""
    source = to.taken(node)
    layer = _fitting(to, node, lambda: kinds.BatchNormalisation(epsilon=node.get("epsilon", 1e-5)))
    arrays = {}
    for place, name in enumerate(("scale", "shift", "mean", "variance"), 1):
        values = to.array(node, place)
        arrays[name] = values if source.order is None else values[source.order]
    _made(to, node, to.add(layer, (source,), arrays, source.standing, source.order))


def group_normalisation(to: Recogniser, node: Node) -> None:
    """Of groups of channels, or of each one alone."""
    source, scale, shift = to.taken(node), to.array(node, 1), to.array(node, 2)
    count = source.shape[-1]
    groups = count if node.operator == "InstanceNormalization" else node.get("num_groups", 1)
    make = partial(kinds.GroupNormalisation, groups=groups, epsilon=node.get("epsilon", 1e-5))
    arrays = {"scale": scale, "shift": shift}
    if node.version < 21 and node.operator == "GroupNormalization":
        arrays = {name: np.repeat(values, count // groups) for name, values in arrays.items()}
    _made(to, node, _added(to, node, _fitting(to, node, make), source, arrays))


def local_response(node: Node) -> LayerSettings:
    """The standard divides the sum by its size."""
    size = node.get("size", 1)
    k, alpha, beta = node.get("bias", 1.0), node.get("alpha", 1e-4) / size, node.get("beta", 0.75)
    return kinds.LocalResponse(size=size, k=k, alpha=alpha, beta=beta)


def parametric_relu(to: Recogniser, node: Node) -> None:
    """A slope for all, or for each channel."""
    source = to.taken(node)
    slope = to.channels(node, source, to.array(node, 1))
    layer = kinds.ParametricRelu(shared=slope.size == 1)
    _made(to, node, to.add(layer, (source,), {"slope": slope}, source.standing, source.order))


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
        kinds.Relu() if low == 0 and high == UNBOUNDED else _fitting(to, node, partial(kinds.Clip, low=low, high=high))
    )
    _made(to, node, to.add(layer, (source,), None, source.standing, source.order))


def _hard_gate(to: Recogniser, source: Live, slope: float, offset: float) -> Live:
    line = to.scaled(source, slope, offset)
    return to.add(kinds.Clip(low=0.0, high=1.0), (line,), None, source.standing, source.order)


def hard_sigmoid(to: Recogniser, node: Node) -> None:
    """A line, held between 0 and 1."""
    _made(to, node, _hard_gate(to, to.taken(node), node.get("alpha", 0.2), node.get("beta", 0.5)))


def hard_swish(to: Recogniser, node: Node) -> None:
    """Times such a line."""
    source = to.taken(node)
    gate = _hard_gate(to, source, 1 / 6, 0.5)
    _made(to, node, to.add(kinds.Multiply(), (source, gate), None, source.standing, source.order))


def flatten(to: Recogniser, node: Node) -> None:
    """All of an image in a row."""
    if node.operator == "Flatten" and node.get("axis", 1) != 1:
        raise to.refused(node, "it does not keep images apart")
    _made(to, node, to.flattened(to.taken(node)))


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
    _made(to, node, replace(live, standing=(count, 1, 1)) if len(shape) == 4 else live)


def squeezed(to: Recogniser, node: Node) -> None:
    """Rows and columns of 1 come or go."""
    source = to.taken(node)
    if source.is_map and source.shape[:2] != (1, 1):
        raise to.refused(node, "it takes away an axis that is not 1")
    live = to.flattened(source)
    _made(to, node, replace(live, standing=(live.shape[0], 1, 1)) if node.operator == "Unsqueeze" else live)


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
    if source.is_map or matrix.ndim != 2 or len(matrix) != source.shape[0]:
        raise to.refused(node, f"a matrix of the shape {matrix.shape} does not take {source.standing}")
    if source.order is not None:
        matrix = matrix[source.order]
    units = matrix.shape[1]
    offset = np.zeros(units) if bias is None else np.broadcast_to(bias.reshape(-1), units) * node.get("beta", 1.0)
    layer = _fitting(to, node, partial(kinds.Connected, units=units))
    _made(to, node, to.add(layer, (source,), {"matrix": matrix * scale, "bias": offset}))


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
    try:
        _made(to, node, to.add(layer, sources, None, sources[0].standing, sources[0].order))
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
        _made(to, node, source)
        return
    _made(to, node, to.scaled(source, 1.0, numbers))


def minus(to: Recogniser, node: Node) -> None:
    """Of a number a channel, or the second value turned and added."""
    if _two_live(to, node):
        one, other = to.taken(node), to.taken(node, 1)
        _joined(to, node, kinds.Add(), (one, to.scaled(other, -1.0, 0.0)))
        return
    source, numbers, first = _numbers(to, node)
    _made(to, node, to.scaled(source, -1.0, numbers) if first else to.scaled(source, 1.0, -numbers))


def times(to: Recogniser, node: Node) -> None:
    """Of values, one of which may be a factor for whole maps; or a number a channel."""
    if _two_live(to, node):
        sources = tuple(to.taken(node, k) for k in range(len(node.inputs)))
        maps_first = tuple(sorted(sources, key=lambda live: not live.is_map))
        _joined(to, node, kinds.Multiply(), maps_first)
        return
    source, numbers, _ = _numbers(to, node)
    _made(to, node, to.scaled(source, numbers, 0.0))


def divided(to: Recogniser, node: Node) -> None:
    """By a number a channel."""
    if _two_live(to, node):
        raise to.refused(node, "it divides by what hangs on the image")
    source, numbers, first = _numbers(to, node)
    if first or not np.all(numbers):
        raise to.refused(node, "it divides by what hangs on the image, or by zero")
    _made(to, node, to.scaled(source, 1 / numbers, 0.0))


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
    _made(to, node, replace(live, standing=(live.shape[-1], *sources[0].standing[1:])))


def border(to: Recogniser, node: Node) -> None:
    """Of zeros, which the next convolution lays."""
    source = to.live[node.inputs[0]]
    widths = whole_numbers(
        (node.get("pads") or node.get("paddings") or ()) if len(node.inputs) < 2 else to.array(node, 1)
    )
    value = node.get("value", 0.0) if node.version < 11 else to.optional(node, 2)
    rows_and_columns = len(widths) == 8 and not any(widths[k] for k in (0, 1, 4, 5)) and min(widths) >= 0
    if node.get("mode", "constant") != "constant" or not rows_and_columns or len(node.inputs) > 3:
        raise to.refused(node, "ours is a border of zeros round rows and columns")
    if value is not None and float(np.asarray(value).reshape(-1)[0]) != 0:
        raise to.refused(node, "its border is not of zeros")
    top, left, bottom, right = (a + b for a, b in zip(source.pads, (*widths[2:4], *widths[6:8]), strict=True))
    _made(to, node, replace(source, pads=(top, left, bottom, right)))


def resampling(to: Recogniser, node: Node) -> None:
    """By a whole factor."""
    source = to.taken(node)
    old = node.version < 11
    place = 1 if old else 2
    scales = node.get("scales") if node.operator == "Upsample" and len(node.inputs) < 2 else to.optional(node, place)
    sizes = None if old else to.optional(node, 3)
    rule = "asymmetric" if old else node.get("coordinate_transformation_mode", "half_pixel")
    if not source.is_map:
        raise to.refused(node, "it makes rows and columns of values")
    if sizes is not None and sizes.size:
        factors = [side / own for side, own in zip(whole_numbers(sizes)[2:], source.shape[:2], strict=True)]
    else:
        factors = [float(factor) for factor in np.asarray(scales).reshape(-1)][2:]
    if len(factors) != 2 or factors[0] != factors[1] or factors[0] != int(factors[0]):
        raise to.refused(node, f"it enlarges by {factors}, and ours by one whole number")
    mode = node.get("mode", "nearest")
    nearest = "floor" if old else node.get("nearest_mode", "round_prefer_floor")
    fits = (mode == "nearest" and (rule == "half_pixel" or (rule == "asymmetric" and nearest == "floor"))) or (
        mode == "linear" and rule == "half_pixel"
    )
    if not fits:
        raise to.refused(node, f"its pixels come by the rule «{rule}»")
    interpolation = "nearest" if mode == "nearest" else "bilinear"
    make = partial(kinds.Resampling, factor=int(factors[0]), interpolation=interpolation)
    _made(to, node, _added(to, node, _fitting(to, node, make), source))


def turned(to: Recogniser, node: Node) -> None:
    """Only what stands as it is here already: channels last, before what reads a row of them."""
    source = to.taken(node)
    order = node.get("perm")
    if source.is_map and order == [0, 2, 3, 1]:
        live = to.add(kinds.Flatten(), (source,), None, (int(np.prod(source.shape)),))
        _made(to, node, live)
        return
    raise to.refused(node, f"it puts axes in the order {order}")


def shape_of(to: Recogniser, node: Node) -> None:
    """Of one image: how many there are is open."""
    source = to.live[node.inputs[0]]
    whole_shape = np.array([1, *source.standing], np.int64)
    to.known[node.outputs[0]] = whole_shape[node.get("start", 0) : node.get("end")]


def answers(output: str) -> Rule:
    """At the end: what makes answers of the scores. Before it, a layer."""

    def rule(to: Recogniser, node: Node) -> None:
        source = to.taken(node)
        ends = node.outputs[0] in to.model.outputs and to.is_end(node.outputs[0])
        axis = node.get("axis", 1 if node.version < 13 else -1)
        if ends and axis in (1, -1, -len(source.standing)):
            to.output = "one sigmoid" if output == "sigmoid" and source.shape == (1,) else output
            _made(to, node, to.flattened(source) if source.standing[1:] in ((), (1, 1)) else source)
            return
        if node.operator == "LogSoftmax" or (output == "softmax" and axis not in (1, -len(source.standing))):
            raise to.refused(node, "ours is over channels, and makes no logarithms")
        layer = kinds.Softmax() if output == "softmax" else kinds.Sigmoid()
        _made(to, node, to.add(layer, (source,), None, source.standing, source.order))

    return rule


def _average_gelu(node: Node) -> LayerSettings:
    if node.get("approximate", "none") != "none":
        raise BadValue("The unit is not ours", "it is approximated by a hyperbolic tangent", "Take the exact one")
    return kinds.Gelu()


def _silu(node: Node) -> LayerSettings:
    if node.get("alpha", 1.0) != 1.0:
        raise BadValue("The unit is not ours", f"its alpha is {node.get('alpha')}", "Take 1")
    return kinds.Silu()


RULES: dict[str, Rule] = {
    "Conv": convolution,
    "ConvTranspose": transposed_convolution,
    "MaxPool": pooling(kinds.MaxPooling),
    "AveragePool": pooling(kinds.AveragePooling),
    "GlobalAveragePool": whole("average"),
    "GlobalMaxPool": whole("max"),
    "ReduceMean": whole("average"),
    "ReduceMax": whole("max"),
    "BatchNormalization": batch_normalisation,
    "InstanceNormalization": group_normalisation,
    "GroupNormalization": group_normalisation,
    "LRN": same(local_response),
    "Relu": same(lambda node: kinds.Relu()),
    "LeakyRelu": same(lambda node: kinds.LeakyRelu(negative_slope=node.get("alpha", 0.01))),
    "PRelu": parametric_relu,
    "Elu": same(lambda node: kinds.Elu(alpha=node.get("alpha", 1.0))),
    "Gelu": same(_average_gelu),
    "Swish": same(_silu),
    "Tanh": same(lambda node: kinds.Tanh()),
    "Sigmoid": answers("sigmoid"),
    "Softmax": answers("softmax"),
    "LogSoftmax": answers("softmax"),
    "HardSigmoid": hard_sigmoid,
    "HardSwish": hard_swish,
    "Clip": clip,
    "Identity": passed,
    "Dropout": passed,
    "Cast": passed,
    "Flatten": flatten,
    "Reshape": reshape,
    "Squeeze": squeezed,
    "Unsqueeze": squeezed,
    "Transpose": turned,
    "Shape": shape_of,
    "Gemm": connected,
    "MatMul": connected,
    "Add": plus,
    "Sum": plus,
    "Sub": minus,
    "Mul": times,
    "Div": divided,
    "Concat": concatenate,
    "Pad": border,
    "Resize": resampling,
    "Upsample": resampling,
}
"""By the operator; what has none can be run, and not taken in."""
