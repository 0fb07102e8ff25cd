"""Edits of a network's nodes: each gives the nodes as they then are, in an order in which sources come first.

What results may be faulty, for a network is designed step by step; `examine` says how. An edit that makes no sense at
all, such as a circle, is refused with a `BadValue` and changes nothing. Nodes are tuples and are never changed in
place, so a history of them is a list.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace
from typing import TypeAlias

from attentive_lens.core.values import unknown_word
from attentive_lens.errors import BadValue
from attentive_lens.plan.blocks import BLOCKS, Block, Builder
from attentive_lens.plan.layers import LAYERS, Add, LayerSettings
from attentive_lens.plan.layers.activations import ACTIVATIONS
from attentive_lens.plan.layers.normalising import NORMALISATIONS
from attentive_lens.plan.nodes import IMAGE, Learning, Names, Node, is_name

Nodes: TypeAlias = tuple[Node, ...]


def part_of_kind(kind: str) -> LayerSettings | Block:
    """A layer or block with its usual settings, by its kind."""
    if kind in LAYERS:
        return LAYERS[kind]()
    if kind in BLOCKS:
        return BLOCKS[kind]()
    raise unknown_word("network.layer", kind[:60], frozenset(LAYERS) | frozenset(BLOCKS))


def insert(nodes: Nodes, source: str, part: LayerSettings | Block, consumer: str = "") -> tuple[Nodes, str]:
    """Put a layer or block after a node.

    Parameters
    ----------
    nodes : tuple of Node
        As they are.
    source : str
        What feeds it: a node or the image.
    part : LayerSettings or Block
        What is put in.
    consumer : str
        The one node that it feeds in place of ``source``; empty for all that stand after ``source``.

    Returns
    -------
    tuple
        The nodes, and the name of the last one put in.
    """
    place = _place(nodes, source, consumer)
    names = [*(node.name for node in nodes), *(node.part_of for node in nodes)]
    onto = Builder(nodes[:place], names)
    onto.last = source
    if isinstance(part, Block):
        onto.build(part)
        new = tuple(onto.nodes[place:])
    else:
        onto.add(part)
        new = (replace(onto.nodes[-1], part_of=_block_between(nodes, source, consumer)),)
    return _spliced(nodes, place, new, source, onto.last, consumer), onto.last


def remove(nodes: Nodes, names: Collection[str]) -> Nodes:
    """Take nodes out; what stood after one stands after what fed it, for a join after its first input."""
    sources = {node.name: node.after for node in nodes}

    def fed_by(name: str) -> str:
        seen = set[str]()
        while name in names and name in sources and sources[name] and name not in seen:
            seen.add(name)
            name = sources[name][0]
        return name

    return tuple(
        replace(node, after=tuple(dict.fromkeys(fed_by(source) for source in node.after)))
        if any(source in names for source in node.after)
        else node
        for node in nodes
        if node.name not in names
    )


def paste(nodes: Nodes, source: str, stretch: Nodes, consumer: str = "") -> tuple[Nodes, tuple[str, ...]]:
    """Put a copy of nodes, of this or of another network, after a node.

    What fed them from outside is replaced by ``source``; they keep their names where these are free.

    Returns
    -------
    tuple
        The nodes, and the copies' names.
    """
    if not stretch:
        return nodes, ()
    place = _place(nodes, source, consumer)
    taken = Names([*(node.name for node in nodes), *(node.part_of for node in nodes), IMAGE])
    known = {node.name for node in nodes} | {IMAGE}
    renamed: dict[str, str] = {}
    members = Counter(node.part_of for node in stretch)
    inside = _block_between(nodes, source, consumer)
    blocks: dict[str, str] = {"": inside, **{name: inside for name, count in members.items() if count == 1}}
    new: list[Node] = []
    for node in stretch:
        if node.part_of not in blocks:
            blocks[node.part_of] = taken.numbered(node.part_of.rstrip("0123456789 ") or "block")
            taken.take(blocks[node.part_of])
        name = taken.free(node.layer) if node.name in known else node.name
        after = tuple(dict.fromkeys(renamed.get(each, source) for each in node.after)) or (source,)
        new.append(replace(node, name=name, after=after, part_of=blocks[node.part_of]))
        renamed[node.name] = name
        known.add(name)
        taken.take(name)
    end = _end(new)
    return _spliced(nodes, place, tuple(new), source, end, consumer), tuple(node.name for node in new)


def duplicate(nodes: Nodes, names: Collection[str]) -> tuple[Nodes, tuple[str, ...]]:
    """Put a copy of some nodes after the last of them."""
    stretch = _some(nodes, names)
    return paste(nodes, _end(stretch), stretch)


def move(nodes: Nodes, names: Collection[str], source: str, consumer: str = "") -> Nodes:
    """Take nodes out and put them after another one, which is none of them; they keep their names."""
    if source in names or consumer in names:
        return nodes
    stretch = _some(nodes, names)
    rest = remove(nodes, names)
    if consumer and source not in next(node for node in rest if node.name == consumer).after:
        consumer = ""
    inside = {node.name for node in stretch}
    moved = tuple(
        replace(node, after=tuple(dict.fromkeys(each if each in inside else source for each in node.after)))
        for node in stretch
    )
    place = _place(rest, source, consumer)
    return _spliced(rest, place, moved, source, _end(moved), consumer)


def swap(nodes: Nodes, name: str, later: bool) -> Nodes:
    """Exchange a node with the one behind it on its way, or with the one before.

    Raises
    ------
    BadValue
        If there is none on a way of its own: several lead to it or from it, or it is the image or the output.
    """
    node = _named(nodes, name)
    behind = [other for other in nodes if name in other.after]
    if later:
        pair = (node, behind[0]) if len(behind) == 1 else None
    else:
        before = next((other for other in nodes if node.after == (other.name,)), None)
        alone = before is not None and [other for other in nodes if before.name in other.after] == [node]
        pair = (before, node) if before is not None and alone else None
    if pair is None or len(pair[0].after) > 1 or len(pair[1].after) > 1 or pair[1].layer.is_output:
        where = "behind" if later else "before"
        why = f"no single layer stands {where} it on its way"
        raise BadValue(f"{name} cannot move {'later' if later else 'earlier'}", why, "Move it with its plate instead")
    first, second = pair
    return move(nodes, [second.name], first.after[0], first.name)


def usual_place(nodes: Nodes, source: str, layer: LayerSettings | Block, consumer: str = "") -> tuple[str, str]:
    """Between which nodes a layer usually stands that is put in behind ``source``.

    A normalisation goes before the activation that ``source`` is (Ioffe and Szegedy 2015, section 3.2); everything
    else stays where it is put.
    """
    node = next((each for each in nodes if each.name == source), None)
    if not isinstance(layer, NORMALISATIONS) or not isinstance(getattr(node, "layer", None), ACTIVATIONS):
        return source, consumer
    if node is None or len(node.after) != 1:
        return source, consumer
    return node.after[0], node.name


def connect(nodes: Nodes, source: str, consumer: str) -> tuple[Nodes, str]:
    """Lead a node's output to another one too, which becomes a sum of both if it takes one input only.

    Returns
    -------
    tuple
        The nodes, and the name of the node where both meet.

    Raises
    ------
    BadValue
        If it stands after it already, or the network would become a circle.
    """
    target = _named(nodes, consumer)
    if source in target.after:
        raise BadValue(f"{source} cannot lead to {consumer}", "it does already", "Choose another layer")
    if source == consumer or consumer in _ancestors(nodes, source):
        why = f"{source} stands after {consumer}, and a network has no circles"
        raise BadValue(f"{source} cannot lead to {consumer}", why, "Choose a layer further on")
    if target.layer.joins:
        changed = tuple(replace(node, after=(*node.after, source)) if node.name == consumer else node for node in nodes)
        return ordered(changed), consumer
    names = Names([*(node.name for node in nodes), *(node.part_of for node in nodes)])
    joined = Node(names.free(Add()), Add(), (*target.after, source))
    place = nodes.index(target)
    rest = tuple(replace(node, after=(joined.name,)) if node.name == consumer else node for node in nodes[place:])
    return ordered((*nodes[:place], joined, *rest)), joined.name


def disconnect(nodes: Nodes, source: str, consumer: str) -> Nodes:
    """Take one of several inputs from a node."""
    target = _named(nodes, consumer)
    if source not in target.after or len(target.after) < 2:
        why = f"it stands after {', '.join(target.after)} alone"
        raise BadValue(f"{source} cannot be taken from {consumer}", why, "Move or remove the layer instead")
    after = tuple(each for each in target.after if each != source)
    return tuple(replace(node, after=after) if node.name == consumer else node for node in nodes)


def change(nodes: Nodes, name: str, layer: LayerSettings) -> Nodes:
    """Give a node other settings."""
    return tuple(replace(node, layer=layer) if node.name == name else node for node in nodes)


def multiply_rate(nodes: Nodes, names: Collection[str], multiplier: float) -> Nodes:
    """Give nodes a learning-rate multiplier; 0 freezes them."""
    return tuple(
        replace(node, learning=node.learning.with_(lr_multiplier=multiplier)) if node.name in names else node
        for node in nodes
    )


def change_learning(nodes: Nodes, name: str, learning: Learning) -> Nodes:
    """Have a node's weights learn otherwise."""
    return tuple(replace(node, learning=learning) if node.name == name else node for node in nodes)


def rename(nodes: Nodes, old: str, new: str) -> Nodes:
    """Call a node otherwise, wherever it is named.

    Raises
    ------
    BadValue
        If another node is called so, or nothing may be.
    """
    if not is_name(new):
        why = "a name is printable text of at most 80 letters, without slashes and blanks at its ends"
        raise BadValue(f"{old} cannot be called {new!r:.60}", why, "Choose another name")
    if new != old and new in {IMAGE, *(node.name for node in nodes)}:
        raise BadValue(f"{old} cannot be called {new}", "another node is", "Choose another name")
    renamed = {old: new}
    return tuple(
        replace(
            node,
            name=renamed.get(node.name, node.name),
            after=tuple(renamed.get(source, source) for source in node.after),
        )
        for node in nodes
    )


def ordered(nodes: Sequence[Node]) -> Nodes:
    """Nodes in an order in which each stands after its sources, otherwise as they came; circles stay at the end."""
    names = {node.name for node in nodes}
    waiting, placed, result = list(nodes), {IMAGE}, list[Node]()
    while waiting:
        ready = next((n for n in waiting if all(s in placed or s not in names for s in n.after)), None)
        if ready is None:
            return (*result, *waiting)
        waiting.remove(ready)
        result.append(ready)
        placed.add(ready.name)
    return tuple(result)


def _block_between(nodes: Nodes, source: str, consumer: str) -> str:
    """The block that both ends of a way are in, if they are in one; a layer put there is a part of it."""
    part_of = {node.name: node.part_of for node in nodes}
    fed = [consumer] if consumer else [node.name for node in nodes if source in node.after]
    blocks = {part_of.get(name, "") for name in (source, *fed)}
    return blocks.pop() if len(blocks) == 1 and fed else ""


def _place(nodes: Nodes, source: str, consumer: str) -> int:
    """Where in the order something between the two stands: before the consumer, or right after the source."""
    known: Mapping[str, int] = {node.name: place for place, node in enumerate(nodes)}
    if consumer:
        return known[_named(nodes, consumer).name]
    return 0 if source == IMAGE else known[_named(nodes, source).name] + 1


def _spliced(nodes: Nodes, place: int, new: Nodes, source: str, end: str, consumer: str) -> Nodes:
    """The nodes with new ones among them, whose end takes the source's place for the consumer, or for all."""

    def led(node: Node) -> Node:
        if source not in node.after or consumer not in ("", node.name):
            return node
        return replace(node, after=tuple(dict.fromkeys(end if each == source else each for each in node.after)))

    return (*(led(node) for node in nodes[:place]), *new, *(led(node) for node in nodes[place:]))


def _some(nodes: Nodes, names: Collection[str]) -> Nodes:
    stretch = tuple(node for node in nodes if node.name in names)
    if not stretch:
        raise BadValue("No layer is chosen", "only layers can be moved or copied", "Choose one on the bench")
    return stretch


def _end(stretch: Sequence[Node]) -> str:
    """The last of some nodes that feeds none of them."""
    inside = {source for node in stretch for source in node.after}
    return next((node.name for node in reversed(stretch) if node.name not in inside), stretch[-1].name)


def _named(nodes: Nodes, name: str) -> Node:
    for node in nodes:
        if node.name == name:
            return node
    raise BadValue(f"There is no layer called {name}", "the network has none of that name", "Choose another")


def feeding(nodes: Nodes, name: str) -> set[str]:
    """A node and all that feed it, without the image."""
    return ({name} | _ancestors(nodes, name)) - {IMAGE}


def _ancestors(nodes: Nodes, name: str) -> set[str]:
    after = {node.name: node.after for node in nodes}
    seen, waiting = set[str](), [name]
    while waiting:
        for source in after.get(waiting.pop(), ()):
            if source not in seen:
                seen.add(source)
                waiting.append(source)
    return seen
