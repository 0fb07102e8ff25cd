"""What is done to an image before the network sees it, as nodes: raw pixels of any size come in."""

from __future__ import annotations

import numpy as np
from onnx import TensorProto

from attentive_lens.formats.onnx.graph import Graph
from attentive_lens.images.pixel_format import EIGHT
from attentive_lens.images.preprocessing import LUMA_CHROMA, NEIGHBOURHOOD, Preprocessor
from attentive_lens.plan.preprocessing import Preprocessing

LUMA = (19595.0, 38470.0, 7471.0)
"""Of red, green and blue in 65 536ths: the whole numbers that grey is reckoned with (ITU-R BT.601)."""
WHOLE = 65536.0
PREPARED = "prepared image"
"""Name of what the network itself gets, N×C×H×W float32."""
TRUNCATED = 4.0
"""Standard deviations at which a Gaussian window ends."""


def prepared(graph: Graph, image: str, preprocessor: Preprocessor) -> str:
    """Nodes from pixels to N×C×H×W float32, as `Preprocessor` does it.

    Pixels are N×H×W×3 uint8, or N×H×W×C of another format: uint8, or float32 as they are stored.

    Pictures are resized along their rows and then along their columns, each rounded to whole levels, as here. Of a
    picture that is more than three times as large as the input, blocks of pixels are averaged first here, and not
    there: a value may then differ by a few levels.
    """
    s, own = preprocessor.settings, preprocessor.pixel_format
    values = graph.add("Transpose", graph.add("Cast", image, to=TensorProto.FLOAT), perm=[0, 3, 1, 2])
    is_whole = own.depth == EIGHT
    if not is_whole:
        above = graph.add("Sub", values, graph.constant(own.black))
        scaled = graph.add("Mul", above, graph.constant(1 / (own.white - own.black)))
        values = graph.add("Clip", scaled, graph.constant(0.0), graph.constant(1.0))
    if s.keeps_scale:
        values = _cropped(graph, values, graph.add("Min", _sides(graph, values), graph.whole(s.sides)))
        values = _framed(graph, values, graph.whole(s.sides), is_whole)
    elif s.resize_mode == "centre crop":
        values = _cropped(graph, values, _in_proportion(graph, _sides(graph, values), s.sides, within=True))
    elif s.resize_mode == "letterbox":
        most = _in_proportion(graph, _sides(graph, values), s.sides, within=False)
        values = _framed(graph, values, most, is_whole)
    if not own.is_plain:
        values = _chosen(graph, values, s, own.channels, is_whole)
    elif s.colour_space == "grey":
        values = _luma(graph, values, is_whole)
    values = _resized(graph, values, s.sides, is_whole)
    scale = 255.0 if is_whole else 1.0
    if is_whole and (s.has_chroma or s.normalisation == "local contrast"):
        values, scale = graph.add("Div", values, graph.constant(255.0)), 1.0
    if s.has_chroma:
        values = graph.add("Conv", values, graph.constant(LUMA_CHROMA.reshape(3, 3, 1, 1)))
    if s.normalisation == "local contrast":
        values = _local_contrast(graph, values, min(s.sides), s.channels)
    std, mean = (np.array(figures).reshape(-1, 1, 1) for figures in (preprocessor.std, preprocessor.mean))
    values = graph.add("Mul", values, graph.constant(1 / (scale * std)))
    return graph.add("Sub", values, graph.constant(mean / std), name=PREPARED)


def _luma(graph: Graph, values: str, is_whole: bool) -> str:
    """One channel of red, green and blue."""
    weighed = graph.add("Mul", values, graph.constant(np.array(LUMA, np.float32).reshape(3, 1, 1)))
    summed = graph.add("ReduceSum", weighed, graph.whole([1]), keepdims=1)
    values = graph.add("Div", summed, graph.constant(WHOLE))
    return _rounded(graph, values) if is_whole else values


def _chosen(graph: Graph, values: str, s: Preprocessing, channels: tuple[str, ...], is_whole: bool) -> str:
    """The channels that the network sees, of those that the image has: see `images.preprocessing`."""
    if s.channel_names == channels:
        return values
    if s.channel_names:
        return graph.add("Gather", values, graph.whole([channels.index(name) for name in s.channel_names]), axis=1)
    if len(channels) == s.channels:
        return values
    return _luma(graph, values, is_whole) if s.channels == 1 else graph.add("Concat", values, values, values, axis=1)


def _resized(graph: Graph, values: str, wanted: tuple[int, int], is_whole: bool) -> str:
    """Blended between pixels, over as many as an output pixel covers where the picture shrinks."""
    for axis in (3, 2):
        sides = [graph.add("Shape", values, start=0, end=axis), graph.whole(list(wanted[axis - 2 :]))]
        size = graph.add("Concat", *sides, axis=0)
        blended = graph.add("Resize", values, "", "", size, mode="linear", antialias=1, exclude_outside=1)
        rounded = _rounded(graph, blended) if is_whole else blended
        values = graph.add("Clip", rounded, graph.constant(0.0), graph.constant(255.0 if is_whole else 1.0))
    return values


def _rounded(graph: Graph, values: str) -> str:
    """To the nearest whole number, halves upward."""
    return graph.add("Floor", graph.add("Add", values, graph.constant(0.5)))


def _sides(graph: Graph, values: str) -> str:
    """Rows and columns, two whole numbers."""
    return graph.add("Shape", values, start=2, end=4)


def _in_proportion(graph: Graph, sides: str, wanted: tuple[int, int], within: bool) -> str:
    """Sides of the input's proportions within others, or about them: see `images.preprocessing.in_proportion`."""
    parts = graph.add("Cast", graph.whole(wanted), to=TensorProto.DOUBLE)
    scales = graph.add("Div", graph.add("Cast", sides, to=TensorProto.DOUBLE), parts)
    scale = graph.add("ReduceMin" if within else "ReduceMax", scales, graph.whole([0]), keepdims=1)
    whole = graph.add("Cast", graph.add("Round", graph.add("Mul", scale, parts)), to=TensorProto.INT64)
    return graph.add("Max", whole, graph.whole([1]))


def _cropped(graph: Graph, values: str, least: str) -> str:
    """The middle, of so many rows and columns."""
    sides = _sides(graph, values)
    start = graph.add("Div", graph.add("Sub", sides, least), graph.whole([2]))
    return graph.add("Slice", values, start, graph.add("Add", start, least), graph.whole([2, 3]))


def _framed(graph: Graph, values: str, most: str, is_whole: bool) -> str:
    """In the middle of a picture of so many rows and columns, of the edge's mean colour, whole levels rounded."""
    sides = _sides(graph, values)
    lines = []
    for axis in (2, 3):
        for place in (0, -1):
            line = graph.add("Gather", values, graph.constant(np.array(place, np.int64)), axis=axis)
            lines.append(graph.add("ReduceSum", line, graph.whole([2]), keepdims=1))
    around = graph.add("Cast", graph.add("ReduceSum", sides, graph.whole([0]), keepdims=0), to=TensorProto.FLOAT)
    pixels = graph.add("Mul", around, graph.constant(2.0))
    edge = graph.add("Div", graph.add("Sum", *lines), pixels)
    edge = graph.add("Round", edge) if is_whole else edge
    colour = graph.add("Unsqueeze", edge, graph.whole([3]))
    missing = graph.add("Sub", most, sides)
    before = graph.add("Div", missing, graph.whole([2]))
    none = graph.whole([0, 0])  # of the count of images and of the channels
    pads = graph.add("Concat", none, before, none, graph.add("Sub", missing, before), axis=0)
    away = graph.add("Sub", values, colour)  # what is put around it is 0, which is then the edge's colour
    return graph.add("Add", graph.add("Pad", away, pads), colour)


def _local_contrast(graph: Graph, values: str, side: int, channels: int) -> str:
    """Less the mean of the neighbourhood, over its deviation or the image's usual one: see `local_contrast`."""
    wide = max(1.0, side * NEIGHBOURHOOD)
    radius = int(TRUNCATED * wide + 0.5)
    line = np.exp(-0.5 * (np.arange(-radius, radius + 1) / wide) ** 2)
    window = np.tile((line / line.sum()).astype(np.float32), (channels, 1, 1, 1))

    def blurred(what: str) -> str:
        padded = graph.add("Pad", what, graph.whole([0, 0, radius, radius] * 2), mode="edge")
        down = graph.add("Conv", padded, graph.constant(window.swapaxes(2, 3)), group=channels)
        return graph.add("Conv", down, graph.constant(window), group=channels)

    centred = graph.add("Sub", values, blurred(values))
    spread = graph.add("Sqrt", graph.add("Relu", blurred(graph.add("Mul", centred, centred))))
    usual = graph.add("ReduceMean", spread, graph.whole([2, 3]), keepdims=1)
    return graph.add("Div", centred, graph.add("Max", spread, usual, graph.constant(1e-3)))
