"""A network as a plan: named nodes, each standing after others, and what can be told without running it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from attentive_lens.errors import BadValue, NotHere
from attentive_lens.plan.layers import DoesNotFit, LayerSettings, Shape
from attentive_lens.plan.layers.base import product, text

IMAGE = "image"
"""Name of the node that is the prepared image."""
MOST_NODES = 3000
LONGEST = 80
"""Letters of a node's name, at most."""
NAMED = 24
"""Names listed in a sentence, at most."""


@dataclass(frozen=True)
class Node:
    """One layer of a network, under its name, fed by the nodes it stands after.

    ``lr_multiplier`` multiplies the learning rate of its weights: 0 holds them as they are.
    """

    name: str
    layer: LayerSettings
    after: tuple[str, ...]
    lr_multiplier: float = 1.0


@dataclass(frozen=True)
class Facts:
    """What is known of a node before anything runs.

    Attributes
    ----------
    name : str
        The node's name.
    input_shape, shape : Shape
        Of the (first) input and the output, for one image.
    weights : int
        Numbers that training changes.
    multiply_adds : int
        For one image, forward.
    memory : int
        Bytes of its output for one image, float32.
    receptive_field : int or None
        Its side in image pixels; None when it is the whole image.
    jump, offset : int
        Image pixels between neighbouring outputs, and image row of the first output's window.
    """

    name: str
    input_shape: Shape
    shape: Shape
    weights: int
    multiply_adds: int
    memory: int
    receptive_field: int | None
    jump: int
    offset: int


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
        if len(self.nodes) > MOST_NODES:
            why = f"it has {len(self.nodes)} layers, and {MOST_NODES} are the most"
            raise BadValue("The network is too large", why, "Use fewer layers")
        known = {IMAGE}
        for node in self.nodes:
            if node.name in known:
                raise BadValue(
                    f"The network has two nodes called {node.name}",
                    "a name stands for one node",
                    "Rename one",
                )
            if not _is_name(node.name):
                raise BadValue(
                    f"The network has a node called {node.name!r:.60}",
                    f"a name is printable text of at most {LONGEST} letters, without slashes and blanks at its ends",
                    "Rename it",
                )
            if not node.after:
                raise BadValue(f"The layer {node.name} stands after nothing", "«after» is empty", "Name what feeds it")
            if node.layer.joins != (len(node.after) > 1):
                raise BadValue(
                    f"The layer {node.name} cannot stand after {len(node.after)} layers",
                    f"{node.layer.kind} takes {'two inputs or more' if node.layer.joins else 'exactly one input'}",
                    f"Name {'them' if node.layer.joins else 'one layer'} in «after»",
                )
            if not 0 <= node.lr_multiplier <= 100:
                raise BadValue(
                    f"The layer {node.name} cannot have this learning-rate multiplier",
                    f"{node.lr_multiplier:g} is not between 0 and 100",
                    "Choose another",
                )
            for source in node.after:
                if source not in known:
                    later = any(source == other.name for other in self.nodes)
                    raise BadValue(
                        f"The layer {node.name} has nothing to stand after",
                        f"{source} comes later, and a network has no circles"
                        if later
                        else f"no layer before it is called {source}",
                        f"Use one of: {', '.join(sorted(known)[:NAMED])}{', …' if len(known) > NAMED else ''}",
                    )
            known.add(node.name)
        if not self.nodes or not self.nodes[-1].layer.is_output:
            raise BadValue(
                "The network has no output",
                "its last layer must be «output»",
                "Add an output layer at the end",
            )

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
        """The tables that `read` makes this network from."""
        return [
            {
                "layer": node.layer.kind,
                "name": node.name,
                **node.layer.write(),
                "after": node.after[0] if len(node.after) == 1 else list(node.after),
                **({} if node.lr_multiplier == 1 else {"lr_multiplier": node.lr_multiplier}),
            }
            for node in self.nodes
        ]

    def with_outputs(self, units: int) -> NetworkPlan:
        """The same network with so many scores; see `LossSettings.outputs`."""
        last = self.nodes[-1]
        return NetworkPlan((*self.nodes[:-1], replace(last, layer=last.layer.with_(units=units))))

    def node(self, name: str) -> Node:
        """The node of that name; `NotHere` if there is none."""
        for node in self.nodes:
            if node.name == name:
                return node
        names = ", ".join(n.name for n in self.nodes[:NAMED]) + (", …" if len(self.nodes) > NAMED else "")
        raise NotHere(f"There is no layer called {name}", f"the network planned has: {names}", "Choose one of these")

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
        shapes: dict[str, Shape] = {IMAGE: image}
        fields: dict[str, tuple[int | None, int, int]] = {IMAGE: (1, 1, 0)}
        rows: list[Facts] = []
        for node in self.nodes:
            input_shapes = tuple(shapes[source] for source in node.after)
            try:
                node.layer.check_input(node.name, input_shapes[0])
                shape = node.layer.output_shape(*input_shapes)
            except DoesNotFit as error:
                sources = ", ".join(self._with_settings(source, rows) for source in node.after)
                at = f"The layer {node.name} does not fit"
                raise DoesNotFit(at, f"{error.why} from {sources}", error.remedy) from None
            sees, step, start = _field(node.layer, input_shapes[0], [fields[source] for source in node.after])
            shapes[node.name], fields[node.name] = shape, (sees, step, start)
            weights = sum(product(s) for s in node.layer.weight_shapes(input_shapes[0]).values())
            cost = node.layer.multiply_adds(input_shapes[0])
            rows.append(Facts(node.name, input_shapes[0], shape, weights, cost, 4 * product(shape), sees, step, start))
        return tuple(rows)

    def _with_settings(self, source: str, rows: Sequence[Facts]) -> str:
        """A node with what made its shape: «convolution 5 (5×5 kernel, valid padding, on 5×5)»."""
        for node, fact in zip(self.nodes, rows, strict=False):
            if node.name == source and node.layer.summary:
                return f"{source} ({node.layer.summary}, on {text(fact.input_shape[:2])})"
        return source


def _field(
    layer: LayerSettings, input_shape: Shape, sources: Sequence[tuple[int | None, int, int]]
) -> tuple[int | None, int, int]:
    """What an output sees of the image, the step between neighbours, and where the first one's window begins."""
    reach = layer.reach(input_shape)
    step, start = sources[0][1], min(source[2] for source in sources)
    seen = [source[0] for source in sources]
    if reach is None or any(side is None for side in seen):
        return None, step, start
    ends = [begin + (side or 0) for side, _, begin in sources]
    sees = max(ends) - start + (reach.kernel - 1) * step
    return sees, step * reach.stride, start - reach.before * step


def working_memory(rows: Sequence[Facts], batch: int, arrays: int) -> int:
    """Bytes a training step needs: weights, gradients and ``arrays`` more of their size, and the batch's maps."""
    weights = 4 * sum(fact.weights for fact in rows)
    return weights * (2 + arrays) + batch * sum(fact.memory for fact in rows)


def _is_name(name: str) -> bool:
    return 0 < len(name) <= LONGEST and name.isprintable() and "/" not in name and name == name.strip()


class Names:
    """Names of a network being put together: those taken, and the next free one of every kind."""

    def __init__(self) -> None:
        self._taken: set[str] = set()
        self._last: dict[str, int] = {}

    def take(self, name: str) -> None:
        """A node has this name."""
        self._taken.add(name)

    def free(self, layer: LayerSettings) -> str:
        """A name for the next layer of its kind, its kind and a number; the output needs none."""
        if layer.is_output:
            return layer.kind
        number = self._last.get(layer.kind, 0) + 1
        while f"{layer.kind} {number}" in self._taken:
            number += 1
        self._last[layer.kind] = number
        return f"{layer.kind} {number}"
