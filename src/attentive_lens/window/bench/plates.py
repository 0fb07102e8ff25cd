"""The plates of a network: which of its nodes each stands for, and what is known of them. Nothing here draws."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace

from attentive_lens.plan.examination import Facts
from attentive_lens.plan.layers import Dropout, LayerSettings, Relu
from attentive_lens.plan.layers.base import SameShape
from attentive_lens.plan.nodes import IMAGE, Node
from attentive_lens.window.words import shape, short, thousands


@dataclass(frozen=True)
class Plate:
    """One plate: a layer with the coatings that follow it, or a folded block.

    Attributes
    ----------
    name : str
        The layer's name, or the block's.
    nodes : tuple of str
        The nodes it stands for, in order; none for the image.
    shape : tuple of int
        Of its output; empty where a fault before it leaves it unknown.
    idea, facts : str
        For the tooltip.
    sources : tuple of int
        Places of the plates that feed it.
    block : str
        The block that it is a part of, or that it stands for when it is folded.
    frozen, holes, folded, faulty, is_input : bool
        Frosted; dropout; a block folded into one plate; where a fault is; what comes with an image, not from it.
    coats : tuple of str
        What follows at once, such as ReLU or a normalisation.
    weights, multiply_adds : int
        Of all its nodes.
    """

    name: str
    nodes: tuple[str, ...]
    shape: tuple[int, ...]
    idea: str
    facts: str = ""
    sources: tuple[int, ...] = ()
    block: str = ""
    frozen: bool = False
    holes: bool = False
    folded: bool = False
    faulty: bool = False
    is_input: bool = False
    coats: tuple[str, ...] = ()
    receptive_field: int | None = None
    jump: int = 1
    offset: int = 0
    weights: int = 0
    multiply_adds: int = 0

    @property
    def output(self) -> str:
        """Node whose output the plate shows: the coating's, if it has one."""
        return self.nodes[-1] if self.nodes else IMAGE

    def field(self, sides: tuple[int, int]) -> tuple[float, float, float, float]:
        """The middle output's receptive field on an image of so many rows and columns.

        Where it begins across and down, its width and its height, in parts of the image's.
        """
        if self.receptive_field is None or not self.shape:
            return 0.0, 0.0, 1.0, 1.0
        ends = []
        for side, count in zip(sides, self.shape, strict=False):
            first = self.offset + self.jump * (count // 2)
            ends.append((max(0, first) / side, min(side, first + self.receptive_field) / side))
        (top, bottom), (left, right) = ends
        return left, top, right - left, bottom - top


def plates_of(
    nodes: Sequence[Node],
    facts: Mapping[str, Facts],
    image: tuple[int, ...],
    frozen: Collection[str] = (),
    folded: Collection[str] = (),
    faulty: Collection[str] = (),
) -> tuple[Plate, ...]:
    """The plates of a network, the image first.

    Parameters
    ----------
    nodes : sequence of Node
        Sound or not; a source that is not there leads nowhere.
    facts : mapping
        What is known, by node.
    image : tuple of int
        Shape of a prepared image.
    frozen, faulty : collection of str
        Nodes.
    folded : collection of str
        Blocks that are shown as one plate, where nothing else stands between their nodes.
    """
    whole = {name for name in folded if _is_foldable(nodes, name)}
    plates = [Plate(IMAGE, (), image, "The prepared image.", shape(image), receptive_field=1)]
    places = {IMAGE: 0}
    uses = Counter(source for node in nodes for source in node.after)
    for node in nodes:
        fact = facts.get(node.name)
        before = plates[-1]
        fault = node.name in faulty
        if node.part_of in whole and before.folded and before.block == node.part_of:
            plates[-1] = _grown(before, node, fact, places, fault, node.name in frozen)
        elif _coats(node, before, uses) and node.part_of not in whole:
            plates[-1] = _coated(before, node, fact, fault)
        elif node.part_of in whole:
            first = Plate(node.part_of, (), (), f"The block {node.part_of}, folded.", block=node.part_of, folded=True)
            frosted = node.name in frozen
            plates.append(_grown(replace(first, frozen=frosted), node, fact, places, fault, frosted))
        else:
            plates.append(_of_layer(node, fact, places, fault, node.name in frozen))
        places.setdefault(node.name, len(plates) - 1)
    return tuple(plates)


def _coats(node: Node, before: Plate, uses: Mapping[str, int]) -> bool:
    """Whether a node is a coating of the plate before it."""
    alone = node.after == (before.output,) and uses[before.output] == 1
    return _is_coating(node.layer) and alone and bool(before.nodes) and not before.folded


def _of_layer(node: Node, fact: Facts | None, places: Mapping[str, int], fault: bool, frozen: bool) -> Plate:
    plate = Plate(
        node.name,
        (node.name,),
        fact.shape if fact is not None else (),
        node.layer.idea,
        sources=_sources(node, places),
        block=node.part_of,
        frozen=frozen,
        holes=isinstance(node.layer, Dropout),
        faulty=fault,
        is_input=node.layer.is_input,
    )
    return plate if fact is None else replace(_placed(plate, fact), facts=_words(fact))


def _coated(plate: Plate, node: Node, fact: Facts | None, fault: bool) -> Plate:
    coat = "ReLU: negative values become 0" if isinstance(node.layer, Relu) else node.layer.kind
    coated = replace(
        plate,
        nodes=(*plate.nodes, node.name),
        facts=f"{plate.facts}\nthen {coat}",
        coats=(*plate.coats, coat),
        faulty=plate.faulty or fault,
    )
    return replace(coated, shape=()) if fact is None else _placed(coated, fact)


def _grown(plate: Plate, node: Node, fact: Facts | None, places: Mapping[str, int], fault: bool, frozen: bool) -> Plate:
    """A folded block with one more of its nodes; it is frozen while all of them are."""
    inside = set(plate.nodes)
    sources = [places[source] for source in node.after if source in places and source not in inside]
    grown = replace(
        plate,
        nodes=(*plate.nodes, node.name),
        sources=tuple(dict.fromkeys((*plate.sources, *sources))),
        faulty=plate.faulty or fault,
        frozen=plate.frozen and frozen,
    )
    if fact is None:
        return replace(grown, shape=())
    grown = _placed(grown, fact)
    count = f"{len(grown.nodes)} layers · {thousands(grown.weights)} weights"
    return replace(grown, facts=f"{count} · {short(grown.multiply_adds)} multiply-adds an image")


def _placed(plate: Plate, fact: Facts) -> Plate:
    """The plate with another output, and that node's weights and cost added."""
    return replace(
        plate,
        shape=fact.shape,
        receptive_field=fact.receptive_field,
        jump=fact.jump,
        offset=fact.offset,
        weights=plate.weights + fact.weights,
        multiply_adds=plate.multiply_adds + fact.multiply_adds,
    )


def _words(fact: Facts) -> str:
    side = fact.receptive_field
    sees = "the whole image" if side is None else f"{side}×{side} pixels"
    cost = f"{thousands(fact.weights)} weights · {short(fact.multiply_adds)} multiply-adds an image"
    return f"{cost}\nreceptive field {sees}"


def _sources(node: Node, places: Mapping[str, int]) -> tuple[int, ...]:
    return tuple(dict.fromkeys(places[source] for source in node.after if source in places))


def _is_coating(layer: LayerSettings) -> bool:
    """Whether a layer is shown as a coating: an activation or a normalisation."""
    return isinstance(layer, SameShape) and not isinstance(layer, Dropout)


def _is_foldable(nodes: Sequence[Node], block: str) -> bool:
    """Whether a block's nodes follow each other without another one between them."""
    places = [place for place, node in enumerate(nodes) if node.part_of == block]
    return len(places) > 1 and places[-1] - places[0] + 1 == len(places)


def blocks_of(nodes: Sequence[Node]) -> tuple[str, ...]:
    """Blocks that can be folded, in order."""
    names = dict.fromkeys(node.part_of for node in nodes if node.part_of)
    return tuple(name for name in names if _is_foldable(nodes, name))


def chosen_plates(plates: Sequence[Plate], mask: Sequence[bool]) -> tuple[Plate, ...]:
    """Some of the plates; what fed a plate that is left out feeds what stood after it."""
    places = {old: new for new, old in enumerate(k for k, keep in enumerate(mask) if keep)}
    fed: list[tuple[int, ...]] = []
    for old, plate in enumerate(plates):
        through = [place for source in plate.sources for place in fed[source]]
        fed.append((places[old],) if old in places else tuple(dict.fromkeys(through)))
    return tuple(
        replace(
            plates[old],
            sources=tuple(dict.fromkeys(place for source in plates[old].sources for place in fed[source])),
        )
        for old in places
    )
