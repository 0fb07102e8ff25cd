"""Which part of a network stays as it is through all of training, so that its outputs need computing only once."""

from __future__ import annotations

from dataclasses import dataclass

from attentive_lens.plan.layers import BatchNormalisation, Dropout, ScaleAndShift
from attentive_lens.plan.nodes import IMAGE
from attentive_lens.plan.plan import Plan


@dataclass(frozen=True)
class FrozenPart:
    """The part of a network before the head that learns.

    Attributes
    ----------
    node : str
        The last of its nodes, through which everything goes on; empty if nothing can be computed once.
    why_not : str
        The reason, where something is frozen and yet nothing can be; empty otherwise.
    """

    node: str = ""
    why_not: str = ""


def frozen_part(plan: Plan) -> FrozenPart:
    """The largest part that no step of training changes, if nothing random stands before it."""
    facts = {fact.name: fact for fact in plan.network.facts(plan.preprocessing.shape)}
    frozen = plan.frozen | {node.name for node in plan.network.nodes if node.frozen}
    if not any(facts[name].weights for name in frozen):
        return FrozenPart()
    fixed, best, dropout, costly = {IMAGE}, "", False, False
    for node in plan.network.nodes:
        random = isinstance(node.layer, Dropout) and node.layer.rate > 0
        learns = facts[node.name].weights > 0 and node.name not in frozen
        if all(source in fixed for source in node.after) and not learns:
            if random:
                dropout = True
                continue
            fixed.add(node.name)
            if facts[node.name].weights:
                costly = True
            if costly and _is_cut(plan, node.name):
                best = node.name
    if not best:
        if dropout:
            return FrozenPart("", "dropout stands before it")
        return FrozenPart("", "a way leads past the frost line" if costly else "layers before the frozen ones learn")
    if plan.augmentation:
        if any(step.last for step in plan.augmentation):
            return FrozenPart("", "augmentation blends images of a batch")
        if not plan.training.augmentation_variants:
            return FrozenPart("", "augmentation changes every image at every epoch; a fixed number of augmentation"
                              " variants would allow it")  # fmt: skip
    return FrozenPart(best)


def _is_cut(plan: Plan, name: str) -> bool:
    """Whether everything goes on through one node, to layers that inference does not merge with it."""
    before = plan.network.up_to(name)
    if name == plan.network.nodes[-1].name:
        return False
    for node in plan.network.nodes:
        if node.name in before:
            continue
        if any((source in before and source != name) or source == IMAGE for source in node.after):
            return False
        if name in node.after and isinstance(node.layer, BatchNormalisation | ScaleAndShift):
            return False
    return True
