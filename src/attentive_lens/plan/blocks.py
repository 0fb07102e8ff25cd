"""Blocks: parts of a network that are built the same way again and again, written out as nodes.

In a plan file, ``block = "residual"`` with its settings stands for its nodes; a plan that was read holds the nodes.
To add one: a class here and one line in `BLOCKS`.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from attentive_lens.core.values import Kind, spec, unknown_word
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
)
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import IMAGE, MOST_NODES, Learning, Names, Node, is_name


class Builder:
    """Nodes being put together; each new one stands after the last unless told otherwise.

    Parameters
    ----------
    nodes : sequence of Node
        Those that stand already; nothing is known of their channels but what their layers tell.
    taken : iterable of str
        Names that further nodes and blocks must not have.
    """

    def __init__(self, nodes: Sequence[Node] = (), taken: Iterable[str] = ()) -> None:
        self.nodes: list[Node] = []
        self.names = Names(taken)
        self.channels: dict[str, int | None] = {IMAGE: None}
        self.last = IMAGE
        self._part_of = ""
        for node in nodes:
            self.put(node)

    def add(self, layer: LayerSettings, *after: str) -> str:
        """Add a layer; its name."""
        return self.put(Node(self.names.free(layer), layer, after or (self.last,), part_of=self._part_of))

    def build(self, block: Block) -> None:
        """Add a block's nodes, which know the name of their block."""
        self._part_of = self.names.numbered(block.kind)
        self.names.take(self._part_of)
        block.build(self)
        self._part_of = ""

    def put(self, node: Node) -> str:
        """Add a node; its name."""
        if len(self.nodes) >= 2 * MOST_NODES:
            raise BadValue("The network is too large", f"it has more than {MOST_NODES} layers", "Use fewer layers")
        self.nodes.append(node)
        self.last = node.name
        self.names.take(node.name)
        self.names.take(node.part_of)
        channels = [self.channels.get(name) for name in node.after]
        self.channels[node.name] = node.layer.output_channels(*channels) if channels else None
        return node.name

    def filtered(self, filters: int, kernel_size: int = 3, stride: int = 1, groups: int = 1, after: str = "") -> str:
        """A convolution with batch normalisation; the name of the latter."""
        convolution = Convolution(filters=filters, kernel_size=kernel_size, stride=stride, groups=groups)
        self.add(convolution, after or self.last)
        return self.add(BatchNormalisation())


@dataclass(frozen=True)
class Block(Kind):
    """Base of the blocks."""

    @abstractmethod
    def build(self, onto: Builder) -> None:
        """Add its nodes after the last one."""


def _stride(which: str) -> Any:
    """Of the convolution in a block that halves its maps, if any does."""
    return spec(
        1,
        label="stride",
        unit="pixels",
        low=1,
        high=4,
        meaning=f"Stride of the {which} convolution.",
        ends="Usual: 1, or 2 where maps are to be halved. More throws pixels away unseen.",
    )


@dataclass(frozen=True)
class Residual(Block):
    """Two 3×3 convolutions and a short cut past them (He 2016, «Deep residual learning», fig. 2)."""

    kind: ClassVar[str] = "residual"
    idea: ClassVar[str] = "Two convolutions learn what to add to their input, which takes a short cut past them."

    filters: int = spec(
        32,
        label="filters",
        low=1,
        high=4096,
        meaning="Maps that come out.",
        ends="Usual: 16 to 512, doubled wherever maps are halved. Few see few patterns; cost grows with the square.",
    )
    stride: int = _stride("first")

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

    kind: ClassVar[str] = "bottleneck"
    idea: ClassVar[str] = "As residual, with the costly convolution between two cheap ones that narrow and widen."

    filters: int = spec(
        64,
        label="filters",
        low=4,
        high=4096,
        meaning="Maps that come out.",
        ends="Usual: 64 to 1024. Few see few patterns; cost grows with the square.",
    )
    reduction: int = spec(
        4,
        label="reduction",
        low=1,
        high=64,
        meaning="How many times fewer maps in the middle.",
        ends="Usual: 4. At 1 nothing is saved; more saves, and little passes the middle.",
    )
    stride: int = _stride("middle")

    def build(self, onto: Builder) -> None:
        """See the class."""
        before, middle = onto.last, max(1, self.filters // self.reduction)
        onto.filtered(middle, kernel_size=1)
        onto.add(Relu())
        onto.filtered(middle, stride=self.stride)
        onto.add(Relu())
        onward = onto.filtered(self.filters, kernel_size=1)
        onto.add(Add(), onward, _short_cut(onto, before, self.filters, self.stride))
        onto.add(Relu())


@dataclass(frozen=True)
class Dense(Block):
    """Every convolution sees the maps of all before it (Huang 2017, section 3)."""

    kind: ClassVar[str] = "densely connected"
    idea: ClassVar[str] = "Every convolution sees all maps of the block so far and adds a few of its own."

    growth_rate: int = spec(
        12,
        label="growth rate",
        unit="maps",
        low=1,
        high=1024,
        meaning="Maps that each convolution adds.",
        ends="Usual: 12 to 32. Few add little at each layer; many make memory grow fast, for all maps are kept.",
    )
    depth: int = spec(
        3,
        label="depth",
        low=1,
        high=64,
        meaning="How many.",
        ends="Usual: 3 to 12. One is a plain convolution; with many memory grows with the square.",
    )

    def build(self, onto: Builder) -> None:
        """See the class; normalised and activated before each convolution."""
        for _ in range(self.depth):
            before = onto.last
            onto.add(BatchNormalisation())
            onto.add(Relu())
            onto.add(Concatenate(), before, onto.add(Convolution(filters=self.growth_rate)))


@dataclass(frozen=True)
class Branches(Block):
    """1×1, 3×3 and 5×5 windows side by side (after Szegedy 2015, fig. 2b, without its pooling branch)."""

    kind: ClassVar[str] = "branches"
    idea: ClassVar[str] = "Windows of several sizes look at the same maps side by side (multi-branch)."

    filters: int = spec(
        16,
        label="filters",
        low=1,
        high=1024,
        meaning="Maps of each branch.",
        ends="Usual: 8 to 64 a branch. Few see few patterns; cost grows with the maps of all branches together.",
    )

    def build(self, onto: Builder) -> None:
        """See the class; the wider windows after a 1×1 convolution of half as many maps."""
        before, half = onto.last, max(1, self.filters // 2)
        ends = [self._branch(onto, self.filters, 1, before)]
        for size in (3, 5):
            ends.append(self._branch(onto, self.filters, size, self._branch(onto, half, 1, before)))
        onto.add(Concatenate(), *ends)

    @staticmethod
    def _branch(onto: Builder, filters: int, kernel_size: int, after: str) -> str:
        onto.filtered(filters, kernel_size, after=after)
        return onto.add(Relu())


@dataclass(frozen=True)
class Separable(Block):
    """A filter for each map, then a 1×1 convolution that mixes them (Howard 2017, fig. 3)."""

    kind: ClassVar[str] = "depthwise-separable"
    idea: ClassVar[str] = "Each map gets a filter of its own, then a 1×1 convolution mixes them: an eighth of the cost."

    filters: int = spec(
        32,
        label="filters",
        low=1,
        high=4096,
        meaning="Maps that come out.",
        ends="Usual: 16 to 512. Few see few patterns; cost grows with them, far slower than of a full convolution.",
    )
    stride: int = _stride("depthwise")

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
        onto.filtered(self.filters, kernel_size=1)
        onto.add(Relu())


@dataclass(frozen=True)
class Squeeze(Block):
    """Maps weighed by what all of them hold (Hu 2018, section 3)."""

    kind: ClassVar[str] = "squeeze-and-excite"
    idea: ClassVar[str] = "Looks at the average of every map and turns each map up or down by it (channel attention)."

    reduction: int = spec(
        8,
        label="reduction",
        low=1,
        high=64,
        meaning="How many times fewer values in the middle.",
        ends="Usual: 4 to 16. At 1 most weights are in it; with few values left all maps are turned up and "
        "down together.",
    )

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
        onto.add(Connected(units=max(1, channels // self.reduction)))
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
            onto.build(part)
        else:
            onto.add(part)
    return NetworkPlan(tuple(onto.nodes))


def _short_cut(onto: Builder, before: str, filters: int, stride: int) -> str:
    if stride == 1 and onto.channels[before] == filters:
        return before
    return onto.filtered(filters, kernel_size=1, stride=stride, after=before)


def read_network(tables: Any) -> NetworkPlan:
    """From the ``[[network]]`` tables of a plan file: layers, and blocks that stand for several.

    `name` and `after` may be left out in a stack; a block stands after the last node and takes neither. Whatever is
    given, what is no network is a `BadValue`.
    """
    return NetworkPlan(read_nodes(tables))


def read_nodes(tables: Any) -> tuple[Node, ...]:
    """The nodes of ``[[network]]`` tables, whether or not they make a sound network.

    Raises
    ------
    BadValue
        At the first table that is no layer and no block.
    """
    if isinstance(tables, str | Mapping) or not isinstance(tables, Sequence):
        raise BadValue("plan.network", f"a list of layers is needed, got {tables!r:.60}", "Write [[network]] sections")
    onto = Builder()
    for table in tables:
        read_part(table, onto)
    return tuple(onto.nodes)


def read_part(table: Any, onto: Builder) -> None:
    """Add what one ``[[network]]`` table stands for; `BadValue` if it is no layer and no block."""
    if not isinstance(table, Mapping):
        raise BadValue("plan.network", f"a layer is a section, not {table!r:.60}", "Write it under [[network]]")
    rest = dict(table)
    if "block" in rest:
        kind = rest.pop("block")
        if not isinstance(kind, str) or kind not in BLOCKS:
            raise unknown_word("network.block", str(kind)[:60], frozenset(BLOCKS))
        onto.build(BLOCKS[kind].read(rest))
        return
    kind = rest.pop("layer", None)
    learning = Learning.read({name: rest.pop(name) for name in Learning.specs() if name in rest})
    if not isinstance(kind, str) or kind not in LAYERS:
        raise unknown_word("network.layer", str(kind)[:60], frozenset(LAYERS))
    name, after, part_of = rest.pop("name", None), rest.pop("after", onto.last), rest.pop("part_of", "")
    layer = LAYERS[kind].read(rest)
    sources = (after,) if isinstance(after, str) else tuple(after) if isinstance(after, list) else ()
    if not sources or not all(isinstance(source, str) for source in sources):
        raise BadValue("network.after", f"a name or a list of names is needed, got {after!r:.60}", "Mend it")
    for key, word in (("name", name), ("part_of", part_of)):
        if word is not None and not isinstance(word, str):
            raise BadValue(f"network.{key}", f"text is needed, got {word!r:.60}", "Put it in quotation marks")
    if part_of and not is_name(part_of):
        raise BadValue("network.part_of", f"{part_of!r:.60} is no name of a block", "Name it otherwise")
    onto.put(Node(name if name is not None else onto.names.free(layer), layer, sources, learning, part_of))
