"""The nearest repairs of a network's fault, each tried: one that does not take the fault away is not offered."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

from attentive_lens.errors import LensError
from attentive_lens.plan import editing
from attentive_lens.plan.editing import Nodes
from attentive_lens.plan.examination import Examination, Fault, examine
from attentive_lens.plan.layers import (
    Add,
    Concatenate,
    Convolution,
    Flatten,
    GlobalPooling,
    LayerSettings,
    Output,
    Shape,
)
from attentive_lens.plan.nodes import IMAGE, Names, Node

MOST = 3
"""Repairs offered for one fault."""


@dataclass(frozen=True)
class Repair:
    """What to do, in a few words for a button, and the nodes as they would be then."""

    words: str
    nodes: Nodes


@dataclass(frozen=True)
class _Case:
    """A fault with what is known round it."""

    nodes: Nodes
    fault: Fault
    shapes: dict[str, Shape]

    @property
    def place(self) -> int:
        return next((k for k, node in enumerate(self.nodes) if node.name == self.fault.node), len(self.nodes) - 1)

    @property
    def node(self) -> Node:
        return self.nodes[self.place]

    @property
    def before(self) -> str:
        """The node before it in order, or the image."""
        return self.nodes[self.place - 1].name if self.place > 0 else IMAGE

    def with_node(self, node: Node) -> Nodes:
        """The nodes with another in the place of the faulty one."""
        return (*self.nodes[: self.place], node, *self.nodes[self.place + 1 :])

    def without(self) -> Nodes:
        return editing.remove(self.nodes, {self.node.name})

    def between(self, source: str, *layers: LayerSettings) -> Nodes:
        """Layers put between a source and the node."""
        nodes = self.nodes
        for layer in layers:
            nodes, source = editing.insert(nodes, source, layer, self.node.name)
        return nodes


def repairs(nodes: Nodes, fault: Fault, image: Shape, units: int | None = None) -> tuple[Repair, ...]:
    """Repairs of a fault, the nearest first; the arguments are those of `examine`, which told the fault.

    Each takes this fault away and puts no faulty layer in; faults behind it, which it hid, may come to light.
    """
    before = examine(nodes, image, units)
    case = _Case(nodes, fault, {IMAGE: image, **{name: fact.shape for name, fact in before.facts.items()}})
    offered: list[Repair] = []
    if fault.kind not in _REPAIRS:
        return ()
    candidates = _REPAIRS[fault.kind](case)
    while len(offered) < MOST:
        try:
            repair = next(candidates)
        except StopIteration:
            break
        if all(repair.nodes != other.nodes for other in offered) and _mends(before, case, repair, image, units):
            offered.append(repair)
    return tuple(offered)


def _mends(before: Examination, case: _Case, repair: Repair, image: Shape, units: int | None) -> bool:
    fault = case.fault
    there = {(other.node, other.kind) for other in before.faults}
    old = {node.name for node in case.nodes[: case.place + 1]}
    after = {(other.node, other.kind) for other in examine(repair.nodes, image, units).faults}
    new = {node.name for node in repair.nodes} - {node.name for node in case.nodes}
    count = [sum((other.node, other.kind) == (fault.node, fault.kind) for other in before.faults)]
    count.append(sum((node, kind) == (fault.node, fault.kind) for node, kind in after))
    return count[1] < count[0] and not any(name in old | new for name, _ in after - there)


def _edited(words: str, edit: Callable[[], Nodes]) -> Iterator[Repair]:
    """A repair, unless the edit it needs is refused."""
    try:
        yield Repair(words, edit())
    except LensError:
        return


def _names(case: _Case) -> Iterator[Repair]:
    """The last node of that name gets another; what comes after it meant it."""
    old = case.fault.node
    last = max(k for k, node in enumerate(case.nodes) if node.name == old)
    name = Names([IMAGE, *(node.name for node in case.nodes)]).free(case.nodes[last].layer)
    behind = tuple(
        replace(node, after=tuple(name if source == old else source for source in node.after))
        for node in case.nodes[last + 1 :]
    )
    yield Repair(f"Call it {name}", (*case.nodes[:last], replace(case.nodes[last], name=name), *behind))


def _sources(case: _Case) -> Iterator[Repair]:
    known = {IMAGE, *(node.name for node in case.nodes[: case.place])}
    stored = tuple(source for source in case.node.after if source in known)
    if stored and (len(stored) > 1) == case.node.layer.joins:
        yield Repair("Leave that input out", case.with_node(replace(case.node, after=stored)))
    if not case.node.layer.joins:
        yield Repair(f"Put it after {case.before}", case.with_node(replace(case.node, after=(case.before,))))
    elif case.before not in stored:
        yield Repair(
            f"Take {case.before} in its place", case.with_node(replace(case.node, after=(*stored, case.before)))
        )
    yield Repair("Take the layer out", case.without())


def _circle(case: _Case) -> Iterator[Repair]:
    yield Repair("Put the layers in order", editing.ordered(case.nodes))
    yield from _sources(case)


def _inputs(case: _Case) -> Iterator[Repair]:
    node = case.node
    if node.layer.joins:
        yield Repair("Take the layer out", case.without())
        if case.before not in node.after:
            yield Repair(f"Join {case.before} too", case.with_node(replace(node, after=(*node.after, case.before))))
        return
    for word, join in (("Add", Add()), ("Concatenate", Concatenate())):
        name = Names([IMAGE, *(other.name for other in case.nodes)]).free(join)
        joined = Node(name, join, node.after)
        place = case.place
        fed = replace(node, after=(name,))
        yield Repair(f"{word} its inputs first", (*case.nodes[:place], joined, fed, *case.nodes[place + 1 :]))
    yield Repair(f"Keep {node.after[0]} alone", case.with_node(replace(node, after=node.after[:1])))


def _shape(case: _Case) -> Iterator[Repair]:
    node, shapes = case.node, [case.shapes[source] for source in case.node.after]
    layer, shape = node.layer, shapes[0]
    if layer.joins:
        yield from _joined(case, shapes)
    elif layer.needs_map and len(shape) != 3:
        flat = _flattened(case)
        if flat is not None:
            words = f"Move it before {flat.name}"
            yield from _edited(words, lambda: editing.move(case.nodes, {node.name}, flat.after[0], flat.name))
            yield Repair(f"Take {flat.name} out", editing.remove(case.nodes, {flat.name}))
    elif not layer.needs_map and len(shape) == 3:
        yield Repair("Put global pooling before it", case.between(node.after[0], GlobalPooling()))
        yield Repair("Put a flatten layer before it", case.between(node.after[0], Flatten()))
    else:
        yield from _smaller(case, min(shape[:2]))
    yield Repair("Take the layer out", case.without())


def _flattened(case: _Case) -> Node | None:
    """The layer before this one, on the way from its first input back, that made one row of the maps."""
    by_name = {node.name: node for node in case.nodes}
    at = by_name.get(case.node.after[0])
    while at is not None:
        fed = case.shapes.get(at.after[0], ())
        if len(fed) == 3 and len(case.shapes[at.name]) == 1:
            return at
        at = by_name.get(at.after[0])
    return None


def _smaller(case: _Case, side: int) -> Iterator[Repair]:
    """A window that fits on maps of this side, and groups that divide."""
    layer, name = case.node.layer, case.node.name
    specs = layer.specs()
    if "padding" in specs:
        yield Repair("Use same padding", editing.change(case.nodes, name, layer.with_(padding="same")))
    if 1 <= side < getattr(layer, "kernel_size", 0):
        smaller = layer.with_(kernel_size=side)
        yield Repair(f"Use a {side}×{side} window", editing.change(case.nodes, name, smaller))
    if "groups" in specs:
        yield Repair("Use one group", editing.change(case.nodes, name, layer.with_(groups=1)))


def _joined(case: _Case, shapes: list[Shape]) -> Iterator[Repair]:
    """Inputs of a join brought to one shape: the larger ones shrink, the channels become those of the first."""
    node = case.node
    if all(len(shape) == 3 for shape in shapes):
        least = min(shape[0] for shape in shapes)
        for target in dict.fromkeys(shape for shape in shapes if shape[0] == least):
            nodes, names = case.nodes, []
            for source, shape in zip(node.after, shapes, strict=True):
                if shape[:2] != target[:2] or (shape != target and not isinstance(node.layer, Concatenate)):
                    stride = max(1, -(-shape[0] // target[0]))
                    project = Convolution(filters=target[2], kernel_size=1, stride=min(stride, 16))
                    nodes, _ = editing.insert(nodes, source, project, node.name)
                    names.append(source)
            yield Repair(f"Put a 1×1 convolution after {' and '.join(names)}", nodes)
    if not isinstance(node.layer, Concatenate):
        concatenated = editing.change(case.nodes, node.name, Concatenate())
        yield Repair("Concatenate in place of it", concatenated)


def _output(case: _Case) -> Iterator[Repair]:
    if case.fault.node:
        yield Repair("Take it out", case.without())
        last = case.nodes[-1].name
        yield from _edited("Put it at the end", lambda: editing.move(case.nodes, {case.node.name}, last))
        return
    last = case.nodes[-1].name if case.nodes else IMAGE
    pooled, end = editing.insert(case.nodes, last, GlobalPooling())
    if len(case.shapes.get(last, ())) == 3:
        yield Repair("Add global pooling and an output", editing.insert(pooled, end, Output())[0])
        flat, end = editing.insert(case.nodes, last, Flatten())
        yield Repair("Add a flatten layer and an output", editing.insert(flat, end, Output())[0])
    yield Repair("Add an output", editing.insert(case.nodes, last, Output())[0])


def _units(case: _Case) -> Iterator[Repair]:
    layer = case.node.layer.with_(units=0)
    yield Repair("Take the number of classes", editing.change(case.nodes, case.node.name, layer))


def _dead_end(case: _Case) -> Iterator[Repair]:
    name = case.node.name
    shape = case.shapes.get(name)
    joins = [node for node in case.nodes[case.place + 1 :] if node.layer.joins]
    meeting = next((node.name for node in joins if shape == case.shapes.get(node.after[0])), None)
    if meeting is not None:
        yield from _edited(f"Lead it to {meeting}", lambda: editing.connect(case.nodes, name, meeting)[0])
    dead, uses = {name}, {node.name: set[str]() for node in case.nodes}
    for node in case.nodes:
        for source in node.after:
            uses.get(source, set()).add(node.name)
    waiting = [name]
    by_name = {node.name: node for node in case.nodes}
    while waiting:
        for source in by_name[waiting.pop()].after:
            if source in uses and source not in dead and uses[source] <= dead:
                dead.add(source)
                waiting.append(source)
    words = "Take the layer out" if len(dead) == 1 else f"Take it and the {len(dead) - 1} before it out"
    yield Repair(words, tuple(node for node in case.nodes if node.name not in dead))


_REPAIRS: dict[str, Callable[[_Case], Iterator[Repair]]] = {
    "name": _names,
    "sources": _sources,
    "circle": _circle,
    "inputs": _inputs,
    "shape": _shape,
    "output": _output,
    "units": _units,
    "dead end": _dead_end,
}
"""By a fault's kind."""
