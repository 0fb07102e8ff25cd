"""A network as a plan: named nodes, each standing after others, and what can be told without running it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from attentive_lens.errors import BadValue, NotHere
from attentive_lens.plan.layers import LAYERS, Answers, DoesNotFit, LayerSettings, Shape
from attentive_lens.plan.layers.base import product
from attentive_lens.plan.values import unknown_word

IMAGE = "image"
"""Name of the node that is the prepared image."""


@dataclass(frozen=True)
class Node:
    """One layer of a network, under its name, fed by the nodes it stands after."""

    name: str
    layer: LayerSettings
    after: tuple[str, ...]


@dataclass(frozen=True)
class Facts:
    """What is known of a node before anything runs.

    Attributes
    ----------
    name : str
        The node's name.
    given, shape : Shape
        Input and output shape for one image.
    weights : int
        Numbers that training changes.
    multiply_adds : int
        For one image, forward.
    sees : int or None
        Side of the receptive field in image pixels; None when it is the whole image.
    step, start : int
        Image pixels between neighbouring outputs, and image row of the first output's window.
    """

    name: str
    given: Shape
    shape: Shape
    weights: int
    multiply_adds: int
    sees: int | None
    step: int
    start: int


@dataclass(frozen=True)
class NetworkPlan:
    """Nodes in an order in which each stands after those it is fed by.

    Raises
    ------
    BadValue
        If two nodes share a name, or one stands after a node that is not before it.
    """

    nodes: tuple[Node, ...]

    def __post_init__(self) -> None:
        known = {IMAGE}
        for node in self.nodes:
            if node.name in known:
                raise BadValue(
                    f"The network has two nodes called {node.name}",
                    "a name stands for one node",
                    "Rename one",
                )
            if len(node.after) != 1:
                raise BadValue(
                    f"The layer {node.name} cannot stand after {len(node.after)} layers",
                    f"a {node.layer.kind} takes exactly one input",
                    "Name one layer in «after»",
                )
            for source in node.after:
                if source not in known:
                    raise BadValue(
                        f"The layer {node.name} has nothing to stand after",
                        f"no layer before it is called {source}",
                        f"Use one of: {', '.join(sorted(known))}",
                    )
            known.add(node.name)
        if not self.nodes or not isinstance(self.nodes[-1].layer, Answers):
            raise BadValue(
                "The network gives no answers",
                "its last layer must be «answers»",
                "Add an answers layer at the end",
            )

    @classmethod
    def stack(cls, layers: Sequence[LayerSettings]) -> NetworkPlan:
        """Layers one after the other, named by kind and count: *convolution 1*, *max pooling 1* and so on."""
        nodes: list[Node] = []
        for layer in layers:
            before = nodes[-1].name if nodes else IMAGE
            nodes.append(Node(free_name(layer, nodes), layer, (before,)))
        return cls(tuple(nodes))

    @classmethod
    def read(cls, tables: Sequence[Mapping[str, Any]]) -> NetworkPlan:
        """From the ``[[network]]`` tables of a plan file; `name` and `after` may be left out in a stack."""
        nodes: list[Node] = []
        for table in tables:
            rest = dict(table)
            kind = rest.pop("layer", None)
            if kind not in LAYERS:
                raise unknown_word("network.layer", str(kind), frozenset(LAYERS))
            name, after = rest.pop("name", None), rest.pop("after", None)
            if after is None:
                after = nodes[-1].name if nodes else IMAGE
            layer = LAYERS[kind].read(rest)
            sources = (after,) if isinstance(after, str) else tuple(after)
            nodes.append(Node(name or free_name(layer, nodes), layer, sources))
        return cls(tuple(nodes))

    def write(self) -> list[dict[str, Any]]:
        """The tables that `read` makes this network from."""
        return [
            {
                "layer": node.layer.kind,
                "name": node.name,
                **node.layer.write(),
                "after": node.after[0] if len(node.after) == 1 else list(node.after),
            }
            for node in self.nodes
        ]

    def for_classes(self, classes: int) -> NetworkPlan:
        """The same network with one answer for each class."""
        last = self.nodes[-1]
        return NetworkPlan((*self.nodes[:-1], Node(last.name, Answers(units=classes), last.after)))

    def node(self, name: str) -> Node:
        """The node of that name; `NotHere` if there is none."""
        for node in self.nodes:
            if node.name == name:
                return node
        names = ", ".join(n.name for n in self.nodes)
        raise NotHere(f"There is no layer called {name}", f"the network has: {names}", "Choose one of these")

    def up_to(self, name: str) -> frozenset[str]:
        """Names of the node and of all that feed it."""
        found: set[str] = set()
        waiting = [self.node(name).name]
        while waiting:
            current = waiting.pop()
            if current != IMAGE and current not in found:
                found.add(current)
                waiting.extend(self.node(current).after)
        return frozenset(found)

    def facts(self, image: Shape) -> tuple[Facts, ...]:
        """Shapes, weights, cost and receptive field of every node for a prepared image of this shape.

        Raises
        ------
        DoesNotFit
            At the first node whose input it cannot take, with that node's name.
        """
        shapes: dict[str, Shape] = {IMAGE: image}
        fields: dict[str, tuple[int | None, int, int]] = {IMAGE: (1, 1, 0)}
        rows: list[Facts] = []
        for node in self.nodes:
            given = shapes[node.after[0]]
            try:
                node.layer.check_input(node.name, given)
                shape = node.layer.output_shape(given)
            except DoesNotFit as error:
                at = f"The layer {node.name} does not fit after {node.after[0]}"
                raise DoesNotFit(at, error.why, error.remedy) from None
            sees, step, start = fields[node.after[0]]
            reach = node.layer.reach()
            if reach is None or sees is None:
                sees = None
            else:
                sees += (reach.kernel - 1) * step
                start -= reach.before * step
                step *= reach.stride
            shapes[node.name], fields[node.name] = shape, (sees, step, start)
            weights = sum(product(s) for s in node.layer.weight_shapes(given).values())
            cost = node.layer.multiply_adds(given)
            rows.append(Facts(node.name, given, shape, weights, cost, sees, step, start))
        return tuple(rows)


def free_name(layer: LayerSettings, nodes: Sequence[Node]) -> str:
    """A name for the next layer of its kind; the answers need no number."""
    if isinstance(layer, Answers):
        return layer.kind
    taken = {node.name for node in nodes}
    number = 1
    while f"{layer.kind} {number}" in taken:
        number += 1
    return f"{layer.kind} {number}"
