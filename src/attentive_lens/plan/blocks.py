"""Blocks: parts of a network that are built the same way again and again, written out as nodes.

In a plan file, ``block = "residual"`` with its settings stands for its nodes; a plan that was read holds the nodes.
To add one: a class here and one line in `BLOCKS`.
"""

from __future__ import annotations

import math
from abc import abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from attentive_lens.errors import BadValue
from attentive_lens.plan.layers import (
    LAYERS,
    Add,
    BatchNormalisation,
    Concatenate,
    Connected,
    Convolution,
    GlobalPooling,
    LayerSettings,
    Multiply,
    Relu,
    Sigmoid,
    TransposedConvolution,
)
from attentive_lens.plan.network import IMAGE, MOST_NODES, Names, NetworkPlan, Node
from attentive_lens.plan.values import Value, spec, unknown_word


class Builder:
    """Nodes being put together; each new one stands after the last unless told otherwise."""

    def __init__(self) -> None:
        self.nodes: list[Node] = []
        self.names = Names()
        self.channels: dict[str, int | None] = {IMAGE: None}

    @property
    def last(self) -> str:
        """Name of the last node, or of the image."""
        return self.nodes[-1].name if self.nodes else IMAGE

    def add(self, layer: LayerSettings, *after: str) -> str:
        """Add a layer; its name."""
        return self.put(Node(self.names.free(layer), layer, after or (self.last,)))

    def put(self, node: Node) -> str:
        """Add a node; its name."""
        if len(self.nodes) >= 2 * MOST_NODES:
            raise BadValue("The network is too large", f"it has more than {MOST_NODES} layers", "Use fewer layers")
        self.nodes.append(node)
        self.names.take(node.name)
        source = self.channels.get(node.after[0]) if node.after else None
        if isinstance(node.layer, Convolution | TransposedConvolution):
            source = node.layer.filters
        elif isinstance(node.layer, Concatenate):
            known = [self.channels.get(name) for name in node.after]
            source = None if None in known else sum(count or 0 for count in known)
        self.channels[node.name] = source
        return node.name

    def filtered(self, filters: int, kernel: int = 3, stride: int = 1, groups: int = 1, after: str = "") -> str:
        """A convolution with batch normalisation; the name of the latter."""
        own = Convolution(filters=filters, kernel=kernel, stride=stride, groups=groups)
        self.add(own, after or self.last)
        return self.add(BatchNormalisation())


@dataclass(frozen=True)
class Block(Value):
    """Base of the blocks."""

    kind: ClassVar[str] = ""
    idea: ClassVar[str] = ""

    @abstractmethod
    def build(self, onto: Builder) -> None:
        """Add its nodes after the last one."""


@dataclass(frozen=True)
class Residual(Block):
    """Two 3×3 convolutions and a short cut past them (He 2016, «Deep residual learning», fig. 2)."""

    title: ClassVar[str] = "residual"
    kind: ClassVar[str] = "residual"
    idea: ClassVar[str] = "Two convolutions learn what to add to their input, which takes a short cut past them."

    filters: int = spec(32, label="filters", low=1, high=4096, meaning="Maps that come out.")
    stride: int = spec(1, label="moves by", unit="pixels", low=1, high=4, meaning="Step of the first convolution.")

    def build(self, onto: Builder) -> None:
        """See the class; a 1×1 convolution on the short cut where the shape changes."""
        before = onto.last
        onto.filtered(self.filters, stride=self.stride)
        onto.add(Relu())
        onward = onto.filtered(self.filters)
        onto.add(Add(), onward, _short_cut(onto, before, self.filters, self.stride))
        onto.add(Relu())


@dataclass(frozen=True)
class Bottleneck(Block):
    """1×1, 3×3 and 1×1 convolutions, narrow in the middle, and a short cut (He 2016, fig. 5)."""

    title: ClassVar[str] = "bottleneck"
    kind: ClassVar[str] = "bottleneck"
    idea: ClassVar[str] = "As residual, with the costly convolution between two cheap ones that narrow and widen."

    filters: int = spec(64, label="filters", low=4, high=4096, meaning="Maps that come out.")
    narrow: int = spec(4, label="narrower by", low=1, high=64, meaning="How many times fewer maps in the middle.")
    stride: int = spec(1, label="moves by", unit="pixels", low=1, high=4, meaning="Step of the middle convolution.")

    def build(self, onto: Builder) -> None:
        """See the class."""
        before, middle = onto.last, max(1, self.filters // self.narrow)
        onto.filtered(middle, kernel=1)
        onto.add(Relu())
        onto.filtered(middle, stride=self.stride)
        onto.add(Relu())
        onward = onto.filtered(self.filters, kernel=1)
        onto.add(Add(), onward, _short_cut(onto, before, self.filters, self.stride))
        onto.add(Relu())


@dataclass(frozen=True)
class Dense(Block):
    """Every convolution sees the maps of all before it (Huang 2017, section 3)."""

    title: ClassVar[str] = "densely connected"
    kind: ClassVar[str] = "densely connected"
    idea: ClassVar[str] = "Every convolution sees all maps of the block so far and adds a few of its own."

    growth: int = spec(12, label="adds", unit="maps", low=1, high=1024, meaning="Maps that each convolution adds.")
    depth: int = spec(3, label="convolutions", low=1, high=64, meaning="How many.")

    def build(self, onto: Builder) -> None:
        """See the class; normalised and activated before each convolution."""
        for _ in range(self.depth):
            before = onto.last
            onto.add(BatchNormalisation())
            onto.add(Relu())
            onto.add(Concatenate(), before, onto.add(Convolution(filters=self.growth)))


@dataclass(frozen=True)
class Branches(Block):
    """1×1, 3×3 and 5×5 windows side by side (after Szegedy 2015, fig. 2b, without its pooling branch)."""

    title: ClassVar[str] = "branches"
    kind: ClassVar[str] = "branches"
    idea: ClassVar[str] = "Windows of several sizes look at the same maps side by side (multi-branch)."

    filters: int = spec(16, label="filters", low=1, high=1024, meaning="Maps of each branch.")

    def build(self, onto: Builder) -> None:
        """See the class; the wider windows after a 1×1 convolution of half as many maps."""
        before, half = onto.last, max(1, self.filters // 2)
        ends = [self._branch(onto, self.filters, 1, before)]
        for kernel in (3, 5):
            ends.append(self._branch(onto, self.filters, kernel, self._branch(onto, half, 1, before)))
        onto.add(Concatenate(), *ends)

    @staticmethod
    def _branch(onto: Builder, filters: int, kernel: int, after: str) -> str:
        onto.filtered(filters, kernel, after=after)
        return onto.add(Relu())


@dataclass(frozen=True)
class Separable(Block):
    """A filter for each map, then a 1×1 convolution that mixes them (Howard 2017, fig. 3)."""

    title: ClassVar[str] = "depthwise-separable"
    kind: ClassVar[str] = "depthwise-separable"
    idea: ClassVar[str] = "Each map gets a filter of its own, then a 1×1 convolution mixes them: an eighth of the cost."

    filters: int = spec(32, label="filters", low=1, high=4096, meaning="Maps that come out.")
    stride: int = spec(1, label="moves by", unit="pixels", low=1, high=4, meaning="Step of the depthwise convolution.")

    def build(self, onto: Builder) -> None:
        """See the class."""
        channels = onto.channels[onto.last]
        if channels is None:
            raise BadValue(
                f"The block {self.kind} cannot stand after {onto.last}",
                "how many maps come in is not known there",
                "Put a convolution before it",
            )
        onto.filtered(channels, stride=self.stride, groups=channels)
        onto.add(Relu())
        onto.filtered(self.filters, kernel=1)
        onto.add(Relu())


@dataclass(frozen=True)
class Squeeze(Block):
    """Maps weighed by what all of them hold (Hu 2018, section 3)."""

    title: ClassVar[str] = "squeeze-and-excite"
    kind: ClassVar[str] = "squeeze-and-excite"
    idea: ClassVar[str] = "Looks at the average of every map and turns each map up or down by it (channel attention)."

    narrow: int = spec(8, label="narrower by", low=1, high=64, meaning="How many times fewer values in the middle.")

    def build(self, onto: Builder) -> None:
        """See the class."""
        before, channels = onto.last, onto.channels[onto.last]
        if channels is None:
            raise BadValue(
                f"The block {self.kind} cannot stand after {onto.last}",
                "how many maps come in is not known there",
                "Put a convolution before it",
            )
        onto.add(GlobalPooling())
        onto.add(Connected(units=max(1, channels // self.narrow)))
        onto.add(Relu())
        onto.add(Connected(units=channels))
        onto.add(Multiply(), before, onto.add(Sigmoid()))


BLOCKS: dict[str, type[Block]] = {
    block.kind: block for block in (Residual, Bottleneck, Dense, Branches, Separable, Squeeze)
}


def built(parts: Sequence[LayerSettings | Block]) -> NetworkPlan:
    """A network of layers and blocks, one after the other."""
    onto = Builder()
    for part in parts:
        if isinstance(part, Block):
            part.build(onto)
        else:
            onto.add(part)
    return NetworkPlan(tuple(onto.nodes))


def _short_cut(onto: Builder, before: str, filters: int, stride: int) -> str:
    if stride == 1 and onto.channels[before] == filters:
        return before
    return onto.filtered(filters, kernel=1, stride=stride, after=before)


def read_network(tables: Any) -> NetworkPlan:
    """From the ``[[network]]`` tables of a plan file: layers, and blocks that stand for several.

    `name` and `after` may be left out in a stack; a block stands after the last node and takes neither. Whatever is
    given, what is no network is a `BadValue`.
    """
    if isinstance(tables, str | Mapping) or not isinstance(tables, Sequence):
        raise BadValue("plan.network", f"a list of layers is needed, got {tables!r:.60}", "Write [[network]] sections")
    onto = Builder()
    for table in tables:
        if not isinstance(table, Mapping):
            raise BadValue("plan.network", f"a layer is a section, not {table!r:.60}", "Write it under [[network]]")
        rest = dict(table)
        if "block" in rest:
            kind = rest.pop("block")
            if not isinstance(kind, str) or kind not in BLOCKS:
                raise unknown_word("network.block", str(kind)[:60], frozenset(BLOCKS))
            BLOCKS[kind].read(rest).build(onto)
            continue
        kind, pace = rest.pop("layer", None), rest.pop("pace", 1.0)
        if isinstance(pace, bool) or not isinstance(pace, int | float):
            raise BadValue("network.pace", f"a number is needed, got {pace!r:.60}", "Change it in the plan")
        if not isinstance(kind, str) or kind not in LAYERS:
            raise unknown_word("network.layer", str(kind)[:60], frozenset(LAYERS))
        name, after = rest.pop("name", None), rest.pop("after", onto.last)
        layer = LAYERS[kind].read(rest)
        sources = (after,) if isinstance(after, str) else tuple(after) if isinstance(after, list) else ()
        if not sources or not all(isinstance(source, str) for source in sources):
            raise BadValue("network.after", f"a name or a list of names is needed, got {after!r:.60}", "Mend it")
        if name is not None and not isinstance(name, str):
            raise BadValue("network.name", f"text is needed, got {name!r:.60}", "Put it in quotation marks")
        pace = float(pace) if abs(pace) < 1e9 else math.inf
        onto.put(Node(name if name is not None else onto.names.free(layer), layer, sources, pace))
    return NetworkPlan(tuple(onto.nodes))
