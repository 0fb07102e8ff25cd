"""A network as a plan: named nodes, each standing after others, sound from birth."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from attentive_lens.errors import NotHere
from attentive_lens.plan.examination import Facts, examine
from attentive_lens.plan.layers import LayerSettings, Shape
from attentive_lens.plan.nodes import IMAGE, Names, Node, listed


@dataclass(frozen=True)
class NetworkPlan:
    """Nodes in an order in which each stands after those it is fed by, the output last.

    Raises
    ------
    BadValue
        If two nodes share a name, one stands after a node that is not before it, or nothing stands after one.
    """

    nodes: tuple[Node, ...]

    def __post_init__(self) -> None:
        for fault in examine(self.nodes, None).faults:
            raise fault.error

    @classmethod
    def stack(cls, layers: Sequence[LayerSettings]) -> NetworkPlan:
        """Layers one after the other, named by kind and count: *convolution 1*, *max pooling 1* and so on."""
        nodes: list[Node] = []
        names = Names()
        for layer in layers:
            before = nodes[-1].name if nodes else IMAGE
            nodes.append(Node(names.free(layer), layer, (before,)))
        return cls(tuple(nodes))

    def write(self) -> list[dict[str, Any]]:
        """The tables that `read_network` makes this network from."""
        return [
            {
                "layer": node.layer.kind,
                "name": node.name,
                **node.layer.write(),
                "after": node.after[0] if len(node.after) == 1 else list(node.after),
                **node.learning.written(),
                **({"part_of": node.part_of} if node.part_of else {}),
            }
            for node in self.nodes
        ]

    def with_outputs(self, units: int) -> NetworkPlan:
        """The same network with so many scores; see `LossSettings.outputs`."""
        last = self.nodes[-1]
        return NetworkPlan((*self.nodes[:-1], replace(last, layer=last.layer.for_scores(units))))

    def for_classes(self, classes: int, units: int) -> NetworkPlan:
        """The same network for so many classes, told by so many scores."""
        nodes = tuple(replace(node, layer=node.layer.for_classes(classes)) for node in self.nodes)
        return NetworkPlan(nodes).with_outputs(units)

    def node(self, name: str) -> Node:
        """The node of that name; `NotHere` if there is none."""
        for node in self.nodes:
            if node.name == name:
                return node
        names = listed(node.name for node in self.nodes)
        raise NotHere(f"There is no layer called {name}", f"the network planned has: {names}", "Choose one of these")

    @property
    def draws(self) -> bool:
        """Whether it draws images."""
        return any(node.layer.draws for node in self.nodes)

    @property
    def drawing(self) -> Node:
        """The layer that gives the images it draws; `NotHere` if there is none, or several."""
        drawings = [node for node in self.nodes if node.layer.draws]
        if len(drawings) != 1:
            why = f"{len(drawings)} of its layers are drawings"
            raise NotHere("The network cannot draw", why, "Let exactly one layer be «drawing»")
        return drawings[0]

    @property
    def class_inputs(self) -> frozenset[str]:
        """Nodes that say which class an image is of."""
        return frozenset(node.name for node in self.nodes if node.layer.is_class)

    @property
    def meeting(self) -> str:
        """Where drawn and real images come in to be told apart; empty in a network that has no discriminator."""
        return next((node.name for node in self.nodes if node.layer.is_meeting), "")

    @property
    def discriminator(self) -> frozenset[str]:
        """All nodes but those that draw, in an adversarial pair; none in other networks."""
        if not self.meeting:
            return frozenset()
        return frozenset(node.name for node in self.nodes) - self.up_to(self.drawing.name)

    @property
    def code(self) -> Node:
        """The layer of whose output it draws; `NotHere` if it has none, or several."""
        codes = [node for node in self.nodes if node.layer.is_code]
        if len(codes) != 1:
            why = f"{len(codes)} of its layers are codes"
            remedy = "Let exactly one layer be «codes», «normal codes» or «noise»"
            raise NotHere("The network cannot draw", why, remedy)
        return codes[0]

    @property
    def judges(self) -> frozenset[str]:
        """Nodes of a discriminator that see the image; the others see the class alone."""
        return frozenset(name for name in self.discriminator if self.meeting in self.up_to(name))

    def up_to(self, name: str) -> frozenset[str]:
        """Names of the node and of all that feed it."""
        after = {node.name: node.after for node in self.nodes}
        ancestors: set[str] = set()
        waiting = [self.node(name).name]
        while waiting:
            current = waiting.pop()
            if current != IMAGE and current not in ancestors:
                ancestors.add(current)
                waiting.extend(after[current])
        return frozenset(ancestors)

    def facts(self, image: Shape) -> tuple[Facts, ...]:
        """Shapes, weights, cost and receptive field of every node for a prepared image of this shape.

        Raises
        ------
        DoesNotFit
            At the first node whose input it cannot take, with that node's name.
        """
        examination = examine(self.nodes, image)
        for fault in examination.faults:
            raise fault.error
        return tuple(examination.facts[node.name] for node in self.nodes)
