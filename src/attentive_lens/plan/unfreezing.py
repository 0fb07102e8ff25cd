"""When layers of a base that learns on begin to, and how fast: its parts one after the other, the last one first."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from attentive_lens.plan.examination import Facts
from attentive_lens.plan.layers import BatchNormalisation
from attentive_lens.plan.plan import Plan


@dataclass(frozen=True)
class Unfreezing:
    """How layers of the base learn on.

    Attributes
    ----------
    begins : mapping
        Node → epoch, from 0, in which it begins to learn; those that are not there learn from the first.
    factors : mapping
        Node → factor of its learning rate; 1 for those that are not there.
    still : frozenset of str
        Nodes that never learn: the base's batch normalisation, where it is kept.
    """

    begins: Mapping[str, int] = field(default_factory=dict)
    factors: Mapping[str, float] = field(default_factory=dict)
    still: frozenset[str] = frozenset()

    def frozen_at(self, epoch: int) -> frozenset[str]:
        """Nodes that do not learn in an epoch, from 0."""
        return self.still | {name for name, first in self.begins.items() if epoch < first}


def base_parts(plan: Plan) -> tuple[frozenset[str], ...]:
    """The layers taken over, by the size of what they give: those before the new layers first.

    Layers whose maps have the same side, or that give rows of values, are one part; those of a side at which nothing
    is learned, such as a last pooling, belong to the part before them.
    """
    if plan.base is None:
        return ()
    taken, of_side = plan.network.up_to(plan.base.until), dict[int, list[Facts]]()
    for fact in plan.network.facts(plan.preprocessing.shape):
        if fact.name in taken:
            of_side.setdefault(fact.shape[0] if len(fact.shape) == 3 else 1, []).append(fact)
    parts: list[frozenset[str]] = []
    waiting = frozenset[str]()
    for side in sorted(of_side):
        waiting |= {fact.name for fact in of_side[side]}
        if any(fact.weights for fact in of_side[side]):
            parts.append(waiting)
            waiting = frozenset()
    if parts:
        parts[-1] |= waiting
    return tuple(parts)


def unfreezing_of(plan: Plan) -> Unfreezing:
    """What the plan's base says of layers that learn on; nothing where it is frozen or there is none.

    Part k (0: the last before the new layers) begins after ``head_warmup_epochs + k · unfreeze_every`` epochs (gradual
    unfreezing, Howard & Ruder 2018, section 3.3), with ``lr_decay`` to the power k + 1 of the learning rate
    (discriminative fine-tuning, section 3.1).
    """
    base = plan.base
    if base is None or base.frozen:
        return Unfreezing()
    begins: dict[str, int] = {}
    factors: dict[str, float] = {}
    for place, part in enumerate(base_parts(plan)):
        first = base.head_warmup_epochs + place * base.unfreeze_every
        begins |= dict.fromkeys(part, first) if first else {}
        factors |= dict.fromkeys(part, base.lr_decay ** (place + 1)) if base.lr_decay != 1 else {}
    still = frozenset[str]()
    if base.normalisation == "kept":
        taken = plan.network.up_to(base.until)
        layers = {node.name: node.layer for node in plan.network.nodes}
        still = frozenset(name for name in taken if isinstance(layers.get(name), BatchNormalisation))
    return Unfreezing(begins, factors, still)
