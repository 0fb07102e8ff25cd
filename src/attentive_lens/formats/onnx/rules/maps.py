"""Layers that look at maps: windows, whole maps, normalisations, borders, larger maps."""

from __future__ import annotations

import math
from dataclasses import replace
from functools import partial

import numpy as np

from attentive_lens.formats.onnx.operators import Node
from attentive_lens.formats.onnx.operators.base import whole_numbers
from attentive_lens.formats.onnx.operators.windows import Window, window_of
from attentive_lens.formats.onnx.recognising import MOST_FOLDED, Live, Recogniser
from attentive_lens.formats.onnx.rules.base import LEAST, Rule, added, fitting, made, same
from attentive_lens.plan import layers as kinds
from attentive_lens.plan.layers import LayerSettings
from attentive_lens.plan.layers.base import Sides


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
        made(to, node, replace(live, standing=(len(kernel), 1, 1)))
        return
    window = window_of(node, source.shape[:2], kernel.shape[2:])
    if source.fill:
        raise to.refused(node, "the border before it is not of zeros")
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
    layer = fitting(to, node, make)
    arrays = {"kernel": kernel.transpose(2, 3, 1, 0), "bias": bias}
    made(to, node, added(to, node, layer, replace(source, pads=(0, 0, 0, 0)), arrays))


def transposed_convolution(to: Recogniser, node: Node) -> None:
    """Whose output is just the stride larger."""
    source, kernel, bias = to.taken(node), to.array(node, 1), to.optional(node, 2)
    if kernel.ndim != 4 or not source.is_map or node.get("group", 1) != 1 or len(set(kernel.shape[2:])) != 1:
        raise to.refused(node, "ours has square filters, of one group, on maps")
    window = window_of(node, source.shape[:2], kernel.shape[2:])
    stride, side = _square(to, node, window.strides, "stride"), kernel.shape[2]
    make = partial(kinds.TransposedConvolution, filters=kernel.shape[1], kernel_size=side, stride=stride)
    layer = fitting(to, node, make)
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
    made(to, node, added(to, node, layer, source, arrays))


def pooling(kind: type[kinds.Pooling]) -> Rule:
    """Of windows, over what lies on the map."""

    def rule(to: Recogniser, node: Node) -> None:
        source = to.live.get(node.inputs[0])
        if source is None or source.fill != LEAST or kind is not kinds.MaxPooling:
            source = to.taken(node)
        if not source.is_map:
            raise to.refused(node, "it looks at rows and columns, and gets values")
        window = window_of(node, source.shape[:2], whole_numbers(node.get("kernel_shape") or ()))
        top, left, bottom, right = source.pads
        pads = (window.before[0] + top, window.after[0] + bottom, window.before[1] + left, window.after[1] + right)
        if max(window.dilations) > 1:
            raise to.refused(node, "its window has gaps")
        if len([name for name in node.outputs if name]) > 1:
            raise to.refused(node, "it tells where the greatest values stood")
        make = partial(
            kind,
            kernel_size=_sides(window),
            stride=_square(to, node, window.strides, "stride"),
            padding_width=pads if any(pads) else 0,
            ceil_mode=bool(node.get("ceil_mode", 0)),
        )
        layer = fitting(to, node, make)
        if node.get("count_include_pad", 0) and any(pads) and kind is kinds.AveragePooling:
            _average_over_borders(to, node, source)
            return
        made(to, node, added(to, node, layer, replace(source, pads=(0, 0, 0, 0), fill=0.0)))

    return rule


def _average_over_borders(to: Recogniser, node: Node, source: Live) -> None:
    """Means in which a border of zeros counts: filters of equal weights, a channel each."""
    if node.get("ceil_mode", 0):
        raise to.refused(node, "it counts what lies beside the map, and windows that reach beyond its border")
    sides, count = whole_numbers(node.get("kernel_shape") or ()), source.shape[-1]
    if count * math.prod(sides) > MOST_FOLDED:
        raise to.refused(node, "its windows are larger than can be meant")
    kernel = f"the means of {node.outputs[0]}"
    to.known[kernel] = np.full((count, 1, *sides), 1 / math.prod(sides), np.float32)
    attributes = {name: value for name, value in node.attributes.items() if name in ("auto_pad", "pads", "strides")}
    inputs = node.inputs[0], kernel
    convolution(to, replace(node, operator="Conv", inputs=inputs, attributes={**attributes, "group": count}))


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
        made(to, node, replace(live, standing=(live.shape[0], 1, 1)) if stays else live)

    return rule


def batch_normalisation(to: Recogniser, node: Node) -> None:
    """By the running figures."""
    if node.get("training_mode", 0):
        raise to.refused(node, "it reckons with the batch's figures, as in training")
    source = to.taken(node)
    layer = fitting(to, node, lambda: kinds.BatchNormalisation(epsilon=node.get("epsilon", 1e-5)))
    arrays = {}
    for place, name in enumerate(("scale", "shift", "mean", "variance"), 1):
        values = to.array(node, place)
        arrays[name] = values if source.order is None else values[source.order]
    made(to, node, to.add(layer, (source,), arrays, source.standing, source.order))


def group_normalisation(to: Recogniser, node: Node) -> None:
    """Of groups of channels, or of each one alone."""
    source, scale, shift = to.taken(node), to.array(node, 1), to.array(node, 2)
    count = source.shape[-1]
    groups = count if node.operator == "InstanceNormalization" else node.get("num_groups", 1)
    make = partial(kinds.GroupNormalisation, groups=groups, epsilon=node.get("epsilon", 1e-5))
    arrays = {"scale": scale, "shift": shift}
    if node.version < 21 and node.operator == "GroupNormalization":
        arrays = {name: np.repeat(values, count // groups) for name, values in arrays.items()}
    made(to, node, added(to, node, fitting(to, node, make), source, arrays))


def local_response(node: Node) -> LayerSettings:
    """The standard divides the sum by its size."""
    size = node.get("size", 1)
    k, alpha, beta = node.get("bias", 1.0), node.get("alpha", 1e-4) / size, node.get("beta", 0.75)
    return kinds.LocalResponse(size=size, k=k, alpha=alpha, beta=beta)


def border(to: Recogniser, node: Node) -> None:
    """Of zeros, which the next convolution lays."""
    source = to.live[node.inputs[0]]
    widths = whole_numbers(
        (node.get("pads") or node.get("paddings") or ()) if len(node.inputs) < 2 else to.array(node, 1)
    )
    value = node.get("value", 0.0) if node.version < 11 else to.optional(node, 2)
    rows_and_columns = len(widths) == 8 and not any(widths[k] for k in (0, 1, 4, 5)) and min(widths) >= 0
    if node.get("mode", "constant") != "constant" or not rows_and_columns or len(node.inputs) > 3:
        raise to.refused(node, "ours is a border of one number round rows and columns")
    fill = 0.0 if value is None else max(LEAST, float(np.asarray(value).reshape(-1)[0]))
    if fill not in (0.0, LEAST) or (any(source.pads) and fill != source.fill):
        raise to.refused(node, "its border is neither of zeros nor of what is least")
    top, left, bottom, right = (a + b for a, b in zip(source.pads, (*widths[2:4], *widths[6:8]), strict=True))
    made(to, node, replace(source, pads=(top, left, bottom, right), fill=fill))


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
    made(to, node, added(to, node, fitting(to, node, make), source))


MAPS: dict[str, Rule] = {
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
    "Pad": border,
    "Resize": resampling,
    "Upsample": resampling,
}
"""By the operator."""
