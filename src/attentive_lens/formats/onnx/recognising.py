"""A graph of the standard as layers of ours, once, when it is taken in: in our layout, to be explained and built upon.

What hangs on nothing but the graph's own arrays is worked out first. Then every node that is left becomes a layer, or
several, or nothing; what none of them can do is refused by operator, node and reason.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Weights
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.formats.onnx.operators import Node, Values
from attentive_lens.formats.onnx.operators.base import whole_numbers
from attentive_lens.formats.onnx.reading import MISFITS, OnnxModel, carried_out
from attentive_lens.plan.layers import Connected, Flatten, LayerSettings, Output, ScaleAndShift, Shape
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import IMAGE, Names
from attentive_lens.plan.nodes import Node as Layer

MOST_FOLDED = 2**28
"""Numbers that are worked out beforehand, at most: of all arrays together."""


@dataclass(frozen=True)
class Live:
    """A value that hangs on the image.

    Attributes
    ----------
    node : str
        The layer of ours that makes it.
    shape : Shape
        Of one image, as here: rows, columns and channels, or values.
    standing : tuple of int
        As there, without the number of images: channels, rows and columns, or values.
    order : ndarray or None
        Of values that were a map: where each one stands there; None where the order is the same.
    pads : tuple of int
        A border that the next convolution or pooling is to lay: top, left, bottom, right.
    parts : tuple of int
        Groups that its channels stand in, and channels of each, while axes are being put in another order; else empty.
    is_shuffled : bool
        Whether these two have changed places since.
    fill : float
        What the border is of: zeros for a convolution, what is least for the greatest of a window.
    """

    node: str
    shape: Shape
    standing: tuple[int, ...]
    order: NDArray[np.intp] | None = None
    pads: tuple[int, int, int, int] = (0, 0, 0, 0)
    fill: float = 0.0
    parts: tuple[int, ...] = ()
    is_shuffled: bool = False

    @property
    def is_map(self) -> bool:
        """Whether it has rows and columns here."""
        return len(self.shape) == 3


@dataclass(frozen=True)
class Recognised:
    """A network of ours.

    Attributes
    ----------
    plan : NetworkPlan
        Its layers.
    weights : dict
        Node → array name → float32 array.
    image : Shape
        Rows, columns and channels of its input.
    output : str
        What makes answers of its scores, one of `engine.outputs.OUTPUTS`.
    """

    plan: NetworkPlan
    weights: Weights
    image: Shape
    output: str


class Recogniser:
    """One graph on its way.

    Parameters
    ----------
    model : OnnxModel
        What was read.
    begin : str
        The value that is the prepared image, N×C×H×W.
    image : Shape
        Its rows, columns and channels.
    """

    def __init__(self, model: OnnxModel, begin: str, image: Shape) -> None:
        self.model, self.image = model, image
        self.known: dict[str, Values] = dict(model.arrays)
        rows, columns, channels = image
        self.live: dict[str, Live] = {begin: Live(IMAGE, image, (channels, rows, columns))}
        self.layers: list[Layer] = []
        self.weights: Weights = {}
        self._names = Names()
        self._uses: dict[str, int] = {}
        for node in model.nodes:
            for name in node.inputs:
                self._uses[name] = self._uses.get(name, 0) + 1
        self.output = ""
        self._folded = 0

    def network(self, rules: Mapping[str, Callable[[Recogniser, Node], None]]) -> Recognised:
        """All layers, the scores last; ``rules`` say by the operator how a node becomes some.

        Raises
        ------
        BadFile
            Naming the first node that no layer of ours can do.
        """
        for node in self.model.nodes:
            if any(name in self.live for name in node.inputs):
                if self.output:
                    raise self.refused(node, "it stands behind what makes answers of the scores")
                try:
                    rules.get(node.operator, _unknown)(self, node)
                except MISFITS as error:
                    raise self.refused(node, f"what it gets does not fit ({error})") from None
            elif all(name in self.known for name in node.inputs if name) and not self._is_before(node):
                self.fold(node)
        end = self.model.outputs[0]
        if end not in self.live:
            raise BadFile(
                f"{self.model.name} was not taken in", "its output does not hang on its image", "Take another"
            )
        self._finish(self.live[end])
        try:
            plan = NetworkPlan(tuple(self.layers))
            self._check_weights(plan)
        except BadValue as error:
            raise BadFile(f"{self.model.name} was not taken in", f"{error.what}: {error.why}", "Take another") from None
        return Recognised(plan, self.weights, self.image, self.output or "softmax")

    def _check_weights(self, plan: NetworkPlan) -> None:
        """Every array has the shape that its layer asks for."""
        for node, facts in zip(plan.nodes, plan.facts(self.image), strict=True):
            wanted = {**node.layer.weight_shapes(facts.input_shape), **node.layer.state_shapes(facts.input_shape)}
            given = {name: array.shape for name, array in self.weights.get(node.name, {}).items()}
            if wanted != given:
                raise BadValue(f"The {node.layer.kind} «{node.name}»", f"it asks for {wanted}, and gets {given}", "")

    def _is_before(self, node: Node) -> bool:
        """Whether it makes what the image is made of, or the image itself."""
        return any(name in self.live for name in node.outputs)

    def fold(self, node: Node) -> None:
        """Work out what hangs on the graph's own arrays alone."""
        for name, value in carried_out(node, self.known).items():
            self._folded += value.size
            if self._folded > MOST_FOLDED:
                raise self.refused(node, "more is made of the graph's own arrays than can be meant")
            self.known[name] = value

    def refused(self, node: Node, why: str) -> BadFile:
        """What is raised where a node cannot become a layer."""
        what = f"{self.model.name} was not taken in"
        return BadFile(what, f"its {node.operator} «{node.name}» is no layer of ours: {why}", "Export it otherwise")

    def taken(self, node: Node, place: int = 0) -> Live:
        """An input that hangs on the image, with no border left to lay."""
        live = self.live[node.inputs[place]] if place < len(node.inputs) and node.inputs[place] in self.live else None
        if live is None:
            raise self.refused(node, "its input does not hang on the image")
        if live.parts:
            raise self.refused(node, "its input stands in groups of channels, which only come together again")
        if any(live.pads):
            raise self.refused(node, "a border was laid before it, which a convolution or a pooling takes up alone")
        return live

    def array(self, node: Node, place: int) -> Values:
        """An input that is the graph's own."""
        name = node.inputs[place] if place < len(node.inputs) else ""
        if name not in self.known:
            raise self.refused(node, f"its input {place + 1} is not an array of the graph's own")
        return self.known[name]

    def optional(self, node: Node, place: int) -> Values | None:
        """Likewise, one that may be left out."""
        return self.array(node, place) if place < len(node.inputs) and node.inputs[place] else None

    def add(
        self,
        layer: LayerSettings,
        sources: tuple[Live, ...],
        weights: Mapping[str, Values] | None = None,
        standing: tuple[int, ...] | None = None,
        order: NDArray[np.intp] | None = None,
    ) -> Live:
        """A layer behind others; `DoesNotFit` where it cannot stand there."""
        name = self._names.free(layer)
        self._names.take(name)
        shape = layer.output_shape(*(each.shape for each in sources))
        self.layers.append(Layer(name, layer, tuple(each.node for each in sources)))
        if weights:
            self.weights[name] = {key: np.ascontiguousarray(array, np.float32) for key, array in weights.items()}
        if standing is None:
            standing = (shape[2], shape[0], shape[1]) if len(shape) == 3 else shape
        return Live(name, shape, standing, order)

    def scaled(self, source: Live, scale: Values | float, shift: Values | float) -> Live:
        """A factor and an offset for every channel; numbers stand for all."""
        count = source.shape[-1]
        arrays = {name: np.broadcast_to(np.asarray(values, np.float32), count).copy()
                  for name, values in (("scale", scale), ("shift", shift))}  # fmt: skip
        return self.add(ScaleAndShift(), (source,), arrays, source.standing, source.order)

    def channels(self, node: Node, source: Live, values: Values) -> Values:
        """An array of one number, or one a channel, in our order: as it stands beside a value of the graph."""
        if values.size == 1:
            return values.reshape(1)
        rank, count = len(source.standing), source.shape[-1]
        sides = (
            (1,) * (rank - values.ndim) + values.shape if values.ndim <= rank else values.shape[values.ndim - rank :]
        )
        plain = values.ndim <= rank or set(values.shape[: values.ndim - rank]) == {1}
        if not plain or sides[0] != count or math.prod(sides) != count:
            raise self.refused(node, f"an array of the shape {values.shape} is not one number a channel")
        flat = values.reshape(-1)
        return flat if source.order is None else flat[source.order]

    def flattened(self, source: Live) -> Live:
        """Values in a row; what was a map remembers the order that it has there."""
        if not source.is_map:
            return replace(source, standing=source.shape)
        rows, columns, channels = source.shape
        order = np.arange(rows * columns * channels).reshape(channels, rows, columns).transpose(1, 2, 0).reshape(-1)
        same = rows * columns == 1
        return self.add(Flatten(), (source,), None, (len(order),), None if same else order)

    def is_end(self, name: str) -> bool:
        """Whether no node takes a value."""
        return self._uses.get(name, 0) == 0

    def is_last_use(self, name: str) -> bool:
        """Whether one node alone takes a value, and the model does not give it."""
        return self._uses.get(name, 0) == 1 and name not in self.model.outputs

    def sides(self, values: Values | None) -> list[int]:
        """Whole numbers of an array of the graph's own."""
        return [] if values is None else whole_numbers(values)

    def _finish(self, end: Live) -> None:
        """The scores come from an output layer: the last fully connected one, or one that hands on what it gets."""
        if end.is_map and end.shape[:2] == (1, 1):
            end = self.flattened(end)
        if len(end.shape) != 1 or end.order is not None or any(end.pads):
            shape = "×".join(map(str, end.standing))
            raise BadFile(f"{self.model.name} was not taken in", f"its output, {shape}, is not one score a class",
                          "Take a classifier")  # fmt: skip
        last = self.layers[-1] if self.layers else None
        taken = {name for each in self.layers for name in each.after}
        if last is not None and last.name == end.node and isinstance(last.layer, Connected) and last.name not in taken:
            self.layers[-1] = replace(last, name="output", layer=Output(units=last.layer.units))
            self.weights["output"] = self.weights.pop(last.name)
        else:
            count = end.shape[0]
            self.add(Output(units=count), (end,), {"matrix": np.eye(count), "bias": np.zeros(count)})


def _unknown(recogniser: Recogniser, node: Node) -> None:
    raise recogniser.refused(node, "it can only be run as it is")
