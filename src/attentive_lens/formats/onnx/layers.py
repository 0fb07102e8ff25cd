"""Every kind of layer as nodes of the standard.

Maps are N×C×H×W there and N×H×W×C here: kernels are turned, and a flatten puts the channels last first, so that what is
connected behind it keeps its order.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.layers.pooling import TINY, window_pixels
from attentive_lens.formats.onnx.graph import Graph
from attentive_lens.plan import layers as kinds
from attentive_lens.plan.layers import LayerSettings, Pooling, Shape
from attentive_lens.plan.layers.base import both


@dataclass(frozen=True)
class Placed:
    """A layer in its place.

    Attributes
    ----------
    name : str
        Its node's.
    settings : LayerSettings
        What it is.
    weights : mapping
        Its arrays, float32.
    inputs : tuple of str
        Names of what it gets, in the graph.
    shapes : tuple of tuple
        Shapes of these for one image, rows and columns first.
    """

    name: str
    settings: LayerSettings
    weights: Mapping[str, NDArray[np.float32]]
    inputs: tuple[str, ...]
    shapes: tuple[Shape, ...]

    @property
    def is_map(self) -> bool:
        """Whether its first input has rows and columns."""
        return len(self.shapes[0]) == 3

    def array(self, graph: Graph, name: str, axes: tuple[int, ...] | None = None) -> str:
        """One of its arrays in the graph, its axes in another order if so wanted."""
        values = self.weights[name]
        return graph.weights(values if axes is None else values.transpose(axes), f"{self.name}/{name}")

    def by_channel(self, graph: Graph, name: str) -> str:
        """An array of one value a channel, so that it is repeated over rows and columns."""
        values = self.weights[name]
        return graph.weights(values.reshape(-1, 1, 1) if self.is_map else values, f"{self.name}/{name}")


Writer = Callable[[Graph, Placed], str]
"""Adds a layer's nodes and gives the name of its output."""


def _convolution(graph: Graph, at: Placed) -> str:
    s = at.settings
    assert isinstance(s, kinds.Convolution)
    (top, bottom), (left, right) = s.pads
    return graph.add(
        "Conv",
        at.inputs[0],
        at.array(graph, "kernel", (3, 2, 0, 1)),
        at.array(graph, "bias"),
        name=at.name,
        kernel_shape=both(s.kernel_size),
        pads=[top, left, bottom, right],
        strides=[s.stride] * 2,
        dilations=[s.dilation] * 2,
        group=s.groups,
    )


def _transposed_convolution(graph: Graph, at: Placed) -> str:
    s = at.settings
    assert isinstance(s, kinds.TransposedConvolution)
    before, after = s.pads
    return graph.add(
        "ConvTranspose",
        at.inputs[0],
        at.array(graph, "kernel", (3, 2, 0, 1)),
        at.array(graph, "bias"),
        name=at.name,
        kernel_shape=[s.kernel_size] * 2,
        pads=[before, before, after, after],
        strides=[s.stride] * 2,
        output_padding=[max(0, s.stride - s.kernel_size)] * 2,
    )


def _is_even(settings: Pooling) -> bool:
    """Whether a pooling is padded alike on all sides and has no window that is not filled."""
    return not settings.ceil_mode and len({pad for pads in settings.pads for pad in pads}) == 1


def _windows(graph: Graph, at: Placed, operator: str, values: str, fill: float, name: str = "") -> str:
    """A pooling whose windows all lie on the maps: what they reach beyond is laid around first.

    The standard has figures for that too, but where padding is uneven or a window is not filled programs differ.
    """
    s = at.settings
    assert isinstance(s, Pooling)
    if _is_even(s):
        (top, bottom), (left, right) = s.pads
        figures = {"kernel_shape": both(s.kernel_size), "strides": [s.stride] * 2, "pads": [top, left, bottom, right]}
        return graph.add(operator, values, name=name, **figures)
    rows, columns, _ = s.output_shape(at.shapes[0])
    extents, (top, _), (left, _) = both(s.kernel_size), *s.pads
    reached = ((rows - 1) * s.stride + extents[0], (columns - 1) * s.stride + extents[1])
    bottom, right = (max(0, reached[k] - before - at.shapes[0][k]) for k, before in enumerate((top, left)))
    if any((top, left, bottom, right)):
        values = graph.add("Pad", values, graph.whole([0, 0, top, left, 0, 0, bottom, right]), graph.constant(fill))
    return graph.add(operator, values, name=name, kernel_shape=extents, strides=[s.stride] * 2)


def _max_pooling(graph: Graph, at: Placed) -> str:
    return _windows(graph, at, "MaxPool", at.inputs[0], float(np.finfo(np.float32).min), at.name)


def _mean_of_windows(graph: Graph, at: Placed, values: str, name: str = "") -> str:
    """Over the pixels of the map in each window."""
    s = at.settings
    assert isinstance(s, Pooling)
    if _is_even(s):
        return _windows(graph, at, "AveragePool", values, 0.0, name)
    tall, wide = both(s.kernel_size)
    shape = (1, *s.output_shape(at.shapes[0]))
    pixels = window_pixels(s, (1, *at.shapes[0]), shape, np.dtype(np.float32))
    factor = (tall * wide / pixels).transpose(2, 0, 1)[None]
    return graph.add("Mul", _windows(graph, at, "AveragePool", values, 0.0), graph.constant(factor), name=name)


def _power_mean(graph: Graph, at: Placed, power: float, mean: Callable[[str], str]) -> str:
    """(mean |x|ᵖ)^(1/p), where ``mean`` adds the nodes that take one."""
    strength = graph.add("Pow", graph.add("Abs", at.inputs[0]), graph.constant(power))
    above = graph.add("Add", mean(strength), graph.constant(TINY))
    return graph.add("Pow", above, graph.constant(1 / power), name=at.name)


def _power_pooling(graph: Graph, at: Placed) -> str:
    s = at.settings
    assert isinstance(s, kinds.PowerPooling)
    return _power_mean(graph, at, s.power, lambda values: _mean_of_windows(graph, at, values))


def _global_pooling(graph: Graph, at: Placed) -> str:
    s = at.settings
    assert isinstance(s, kinds.GlobalPooling)

    def over(operator: str, values: str, name: str = "") -> str:
        return graph.add(operator, values, graph.whole([2, 3]), name=name, keepdims=0)

    if s.mode == "power mean":
        return _power_mean(graph, at, s.power, lambda values: over("ReduceMean", values))
    return over("ReduceMax" if s.mode == "max" else "ReduceMean", at.inputs[0], at.name)


def _clip(graph: Graph, at: Placed) -> str:
    s = at.settings
    assert isinstance(s, kinds.Clip)
    return graph.add("Clip", at.inputs[0], graph.constant(s.low), graph.constant(s.high), name=at.name)


def _silu(graph: Graph, at: Placed) -> str:
    return graph.add("Mul", at.inputs[0], graph.add("Sigmoid", at.inputs[0]), name=at.name)


def _batch_normalisation(graph: Graph, at: Placed) -> str:
    s = at.settings
    assert isinstance(s, kinds.BatchNormalisation)
    arrays = (at.array(graph, name) for name in ("scale", "shift", "mean", "variance"))
    return graph.add("BatchNormalization", at.inputs[0], *arrays, name=at.name, epsilon=s.epsilon)


def _group_normalisation(graph: Graph, at: Placed) -> str:
    s = at.settings
    assert isinstance(s, kinds.GroupNormalisation)
    arrays = (at.array(graph, name) for name in ("scale", "shift"))
    return graph.add("GroupNormalization", at.inputs[0], *arrays, name=at.name, epsilon=s.epsilon, num_groups=s.groups)


def _local_response(graph: Graph, at: Placed) -> str:
    """The standard divides the sum by its size."""
    s = at.settings
    assert isinstance(s, kinds.LocalResponse)
    figures = {"size": s.size, "bias": s.k, "alpha": s.alpha * s.size, "beta": s.beta}
    return graph.add("LRN", at.inputs[0], name=at.name, **figures)


def _scale_and_shift(graph: Graph, at: Placed) -> str:
    scaled = graph.add("Mul", at.inputs[0], at.by_channel(graph, "scale"))
    return graph.add("Add", scaled, at.by_channel(graph, "shift"), name=at.name)


def _flatten(graph: Graph, at: Placed) -> str:
    values = graph.add("Transpose", at.inputs[0], perm=[0, 2, 3, 1]) if at.is_map else at.inputs[0]
    return graph.add("Flatten", values, name=at.name, axis=1)


def _normal_codes(graph: Graph, at: Placed) -> str:
    """The means: the first half of the values."""
    half = at.shapes[0][0] // 2
    return graph.add("Slice", at.inputs[0], graph.whole([0]), graph.whole([half]), graph.whole([1]), name=at.name)


def _maps(graph: Graph, at: Placed, shape: Shape) -> str:
    """A row of values as maps of a shape, rows first; maps as they are."""
    if at.is_map and at.shapes[0] == shape:
        return graph.add("Identity", at.inputs[0], name=at.name)
    values = graph.add("Transpose", at.inputs[0], perm=[0, 2, 3, 1]) if at.is_map else at.inputs[0]
    return graph.add(
        "Transpose", graph.add("Reshape", values, graph.whole([-1, *shape])), name=at.name, perm=[0, 3, 1, 2]
    )


def _resampling(graph: Graph, at: Placed) -> str:
    s = at.settings
    assert isinstance(s, kinds.Resampling)
    scales = graph.constant(np.array([1, 1, s.factor, s.factor], np.float32), "scales")
    if s.interpolation == "nearest":
        how = {"mode": "nearest", "coordinate_transformation_mode": "asymmetric", "nearest_mode": "floor"}
    else:
        how = {"mode": "linear", "coordinate_transformation_mode": "half_pixel"}
    return graph.add("Resize", at.inputs[0], "", scales, name=at.name, **how)


def _multiply(graph: Graph, at: Placed) -> str:
    out = at.inputs[0]
    for k, (factor, shape) in enumerate(zip(at.inputs[1:], at.shapes[1:], strict=True)):
        wide = graph.add("Unsqueeze", factor, graph.whole([2, 3])) if len(shape) < len(at.shapes[0]) else factor
        out = graph.add("Mul", out, wide, name=at.name if k == len(at.inputs) - 2 else "")
    return out


def _connected(graph: Graph, at: Placed) -> str:
    return graph.add("Gemm", at.inputs[0], at.array(graph, "matrix"), at.array(graph, "bias"), name=at.name)


def _same(operator: str, **attributes: object) -> Writer:
    """A layer that is one node; a setting that it hands on stands in ``attributes`` by the standard's name for it."""

    def write(graph: Graph, at: Placed) -> str:
        given = {name: getattr(at.settings, value[1:]) if isinstance(value, str) and value[:1] == "." else value
                 for name, value in attributes.items()}  # fmt: skip
        return graph.add(operator, *at.inputs, name=at.name, **given)

    return write


WRITERS: dict[str, Writer] = {
    "convolution": _convolution,
    "transposed convolution": _transposed_convolution,
    "max pooling": _max_pooling,
    "average pooling": lambda graph, at: _mean_of_windows(graph, at, at.inputs[0], at.name),
    "power pooling": _power_pooling,
    "global pooling": _global_pooling,
    "relu": _same("Relu"),
    "leaky relu": _same("LeakyRelu", alpha=".negative_slope"),
    "parametric relu": lambda graph, at: graph.add("PRelu", at.inputs[0], at.by_channel(graph, "slope"), name=at.name),
    "clip": _clip,
    "elu": _same("Elu", alpha=".alpha"),
    "gelu": _same("Gelu"),
    "silu": _silu,
    "tanh": _same("Tanh"),
    "sigmoid": _same("Sigmoid"),
    "softmax": _same("Softmax", axis=1),
    "batch normalisation": _batch_normalisation,
    "group normalisation": _group_normalisation,
    "local response normalisation": _local_response,
    "scale and shift": _scale_and_shift,
    "dropout": _same("Identity"),
    "flatten": _flatten,
    "resampling": _resampling,
    "add": _same("Sum"),
    "multiply": _multiply,
    "concatenate": _same("Concat", axis=1),
    "codes": _same("Identity"),
    "normal codes": _normal_codes,
    "reshape": lambda graph, at: _maps(graph, at, at.settings.output_shape(at.shapes[0])),
    "drawing": lambda graph, at: _maps(graph, at, at.settings.output_shape(at.shapes[0])),
    "noise": lambda graph, at: graph.add_input(at.name, at.settings.output_shape(())),
    "class": lambda graph, at: graph.add_input(at.name, at.settings.output_shape(())),
    "real or drawn": lambda graph, at: graph.add("Identity", at.inputs[-1], name=at.name),
    "fully connected": _connected,
    "output": _connected,
}
"""By the layer's kind: a test holds that none is missing."""
