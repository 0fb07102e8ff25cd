"""What can be told of a network's nodes without running them, whether or not they make a sound network."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from attentive_lens.errors import BadValue
from attentive_lens.plan.layers import DoesNotFit, LayerSettings, Shape
from attentive_lens.plan.layers.base import product, text
from attentive_lens.plan.nodes import IMAGE, MOST_NODES, Node, is_name, listed

_Field = tuple[int | None, int, int]


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
    numbers : int
        Of its output for one image.
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
    numbers: int
    receptive_field: int | None
    jump: int
    offset: int


@dataclass(frozen=True)
class Fault:
    """Why some nodes are no sound network.

    Attributes
    ----------
    node : str
        Where it is; empty for the network as a whole.
    kind : str
        What sort of fault, for who looks for a repair: size, name, sources, circle, inputs, shape, output,
        units, dead end, base, plan, loss.
    error : LensError
        What, why and what to do.
    """

    node: str
    kind: str
    error: BadValue


@dataclass(frozen=True)
class Examination:
    """Facts of the nodes whose shapes are known, and every fault, in the nodes' order, dead ends last."""

    facts: Mapping[str, Facts]
    faults: tuple[Fault, ...]


def examine(
    nodes: Sequence[Node], image: Shape | None, units: int | None = None, classes: int | None = None
) -> Examination:
    """Facts and faults of nodes, each of which should stand after those it is fed by.

    Parameters
    ----------
    nodes : sequence of Node
        In any state: what makes no sense is a fault.
    image : Shape or None
        Of a prepared image; None looks at names and sources alone.
    units : int, optional
        Scores that the output must have; an output that names none has so many.
    classes : int, optional
        That images are of, where that is known.
    """
    if len(nodes) > MOST_NODES:
        why = f"it has {len(nodes)} layers, and {MOST_NODES} are the most"
        return Examination({}, (Fault("", "size", BadValue("The network is too large", why, "Use fewer layers")),))
    shapes: dict[str, Shape] = {} if image is None else {IMAGE: image}
    fields: dict[str, _Field] = {IMAGE: (1, 1, 0)}
    uses = Counter(source for node in nodes for source in node.after)
    everyone = {node.name for node in nodes}
    known, facts = {IMAGE}, dict[str, Facts]()
    faults, dead_ends = list[Fault](), list[Fault]()
    for place, node in enumerate(nodes):
        last = place == len(nodes) - 1
        wrong = _wiring(node, known, everyone, last) or _scores(node, last, units)
        if wrong is None and all(source in shapes for source in node.after):
            if classes is not None and node.layer.is_class:
                node = replace(node, layer=node.layer.for_classes(classes))
            if node.layer.is_output and units is not None:
                node = replace(node, layer=node.layer.for_scores(units))
            try:
                facts[node.name] = fact = _facts(node, shapes, fields, nodes, facts)
            except DoesNotFit as error:
                wrong = Fault(node.name, "shape", error)
            else:
                shapes[node.name] = fact.shape
                fields[node.name] = (fact.receptive_field, fact.jump, fact.offset)
        if wrong is None and not last and not uses[node.name]:
            why = "no layer stands after it, so it would be computed for nothing"
            remedy = "Take it out, or let a layer stand after it"
            what = f"The layer {node.name} is a dead end"
            dead_ends.append(Fault(node.name, "dead end", BadValue(what, why, remedy)))
        if wrong is not None:
            faults.append(wrong)
        known.add(node.name)
    if not nodes or not nodes[-1].layer.is_output:
        why, remedy = "its last layer must be «output», or «drawing»", "Add one at the end"
        faults.append(Fault("", "output", BadValue("The network has no output", why, remedy)))
    return Examination(facts, (*faults, *dead_ends))


def _wiring(node: Node, known: set[str], everyone: set[str], last: bool) -> Fault | None:
    """What is wrong with a node's name and sources, given the names of the nodes before it."""
    name = node.name

    def fault(kind: str, what: str, why: str, remedy: str) -> Fault:
        return Fault(name, kind, BadValue(what, why, remedy))

    if name in known:
        return fault("name", f"The network has two nodes called {name}", "a name stands for one node", "Rename one")
    if not is_name(name):
        why = "a name is printable text of at most 80 letters, without slashes and blanks at its ends"
        return fault("name", f"The network has a node called {name!r:.60}", why, "Rename it")
    if not node.after:
        return fault("sources", f"The layer {name} stands after nothing", "«after» is empty", "Name what feeds it")
    if node.layer.joins != (len(node.after) > 1):
        why = f"{node.layer.kind} takes {'two inputs or more' if node.layer.joins else 'exactly one input'}"
        remedy = f"Name {'them' if node.layer.joins else 'one layer'} in «after»"
        return fault("inputs", f"The layer {name} cannot stand after {len(node.after)} layers", why, remedy)
    for source in node.after:
        if source not in known:
            later = source in everyone
            why = "comes later, and a network has no circles" if later else ""
            why = f"{source} {why}" if later else f"no layer before it is called {source}"
            remedy = f"Use one of: {listed(sorted(known))}"
            return fault("circle" if later else "sources", f"The layer {name} has nothing to stand after", why, remedy)
    if node.layer.is_output and not node.layer.draws and not last:
        why = "its scores are the network's, and layers follow it"
        return fault("output", f"The output {name} is not the last layer", why, "Take it out, or put it at the end")
    return None


def _scores(node: Node, last: bool, units: int | None) -> Fault | None:
    """Whether an output names another number of scores than the classes ask for."""
    named = getattr(node.layer, "units", 0) if node.layer.is_output else 0
    if not last or units is None or named in (0, units):
        return None
    what = f"The output {node.name} does not match the classes"
    why = f"it has {named} scores, and {units} are needed"
    return Fault(node.name, "units", BadValue(what, why, "Set its units to 0, which takes them from the classes"))


def _facts(
    node: Node,
    shapes: Mapping[str, Shape],
    fields: Mapping[str, _Field],
    nodes: Sequence[Node],
    facts: Mapping[str, Facts],
) -> Facts:
    input_shapes = tuple(shapes[source] for source in node.after)
    layer = node.layer
    try:
        layer.check_input(node.name, input_shapes[0])
        shape = layer.output_shape(*input_shapes)
    except DoesNotFit as error:
        sources = ", ".join(_with_settings(source, nodes, facts) for source in node.after)
        what = f"The layer {node.name} does not fit"
        joined = f"{error.why} (inputs: {sources})" if layer.joins else f"{error.why} from {sources}"
        raise DoesNotFit(what, joined, error.remedy) from None
    sees, jump, offset = _field(layer, input_shapes[0], [fields[source] for source in node.after])
    weights = sum(product(s) for s in layer.weight_shapes(input_shapes[0]).values())
    cost = layer.multiply_adds(input_shapes[0])
    return Facts(node.name, input_shapes[0], shape, weights, cost, product(shape), sees, jump, offset)


def _with_settings(source: str, nodes: Sequence[Node], facts: Mapping[str, Facts]) -> str:
    """A node with what made its shape: «convolution 5 (5×5 kernel, valid padding, on 5×5)»."""
    for node in nodes:
        if node.name == source and node.layer.summary:
            return f"{source} ({node.layer.summary}, on {text(facts[source].input_shape[:2])})"
    return source


def _field(layer: LayerSettings, input_shape: Shape, sources: Sequence[_Field]) -> _Field:
    """What an output sees of the image, the step between neighbours, and where the first one's window begins."""
    reach = layer.reach(input_shape)
    if layer.is_meeting:
        sources = sources[:1]
    step, start = sources[0][1], min(source[2] for source in sources)
    seen = [source[0] for source in sources]
    if reach is None or any(side is None for side in seen):
        return None, step, start
    ends = [begin + (side or 0) for side, _, begin in sources]
    sees = max(ends) - start + (reach.kernel - 1) * step
    return sees, step * reach.stride, start - reach.before * step
