"""Nodes of a network: named layers, each fed by the nodes it stands after, and names for new ones."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import Value, spec
from attentive_lens.plan.initialisations import INITIALISATIONS
from attentive_lens.plan.layers import LayerSettings

IMAGE = "image"
"""Name of the node that is the prepared image."""
MOST_NODES = 3000
LONGEST = 80
"""Letters of a node's name, at most."""
NAMED = 24
"""Names listed in a sentence, at most."""


AS_PLANNED = "as planned"


@dataclass(frozen=True)
class Learning(Value):
    """How the weights of one layer learn, beside what the plan says of all."""

    title: ClassVar[str] = "network"

    lr_multiplier: float = spec(
        1.0,
        label="learning-rate multiplier",
        low=0.0,
        high=100.0,
        meaning="Factor of its learning rate; 0 holds its weights as they are.",
        ends="Usual: 1; 0.1 for layers of a base. Large ones let a layer run away.",
    )
    decay_multiplier: float = spec(
        1.0,
        label="decay multiplier",
        low=0.0,
        high=1000.0,
        meaning="Factor of the plan's weight decay; 0: none.",
        ends="Usual: 1. Large ones shrink the layer to nothing.",
    )
    max_norm: float = spec(
        0.0,
        label="max norm",
        low=0.0,
        high=1e6,
        meaning="Greatest norm that the weights into one unit or filter may have (max-norm constraint); 0: any.",
        ends="Usual: 0, or 2 to 4 with dropout. Small ones keep units from ever being strong.",
    )

    initialisation: str = spec(
        AS_PLANNED,
        label="initialisation",
        choices=(AS_PLANNED, *INITIALISATIONS),
        meaning="How its weights are drawn, with the usual settings of that way; as planned: as the plan says of all.",
    )

    def written(self) -> dict[str, float | str]:
        """Only what is not as usual."""
        return {name: value for name, value in self.write().items() if value != getattr(USUALLY, name)}


USUALLY = Learning()


@dataclass(frozen=True)
class Node:
    """One layer of a network, under its name, fed by the nodes it stands after.

    ``part_of`` is the name of the block it was built as a part of, empty for a layer that stands alone.
    """

    name: str
    layer: LayerSettings
    after: tuple[str, ...]
    learning: Learning = USUALLY
    part_of: str = ""

    @property
    def frozen(self) -> bool:
        """Whether its weights are held, whatever the plan is built on."""
        return self.learning.lr_multiplier == 0


def is_name(name: str) -> bool:
    """Whether a node or block may be called so."""
    return 0 < len(name) <= LONGEST and name.isprintable() and "/" not in name and name == name.strip()


def listed(names: Iterable[str]) -> str:
    """Names for a sentence, the first of many."""
    every = list(names)
    return ", ".join(every[:NAMED]) + (", …" if len(every) > NAMED else "")


class Names:
    """Names of a network being put together: those taken, and the next free one of every kind."""

    def __init__(self, taken: Iterable[str] = ()) -> None:
        self._taken = set(taken)
        self._last: dict[str, int] = {}

    def take(self, name: str) -> None:
        """A node has this name."""
        self._taken.add(name)

    def free(self, layer: LayerSettings) -> str:
        """A name for the next layer of its kind, its kind and a number; the output needs none while it is free."""
        if layer.is_output and layer.kind not in self._taken:
            return layer.kind
        return self.numbered(layer.kind)

    def numbered(self, kind: str) -> str:
        """A kind and the next number of it that no node has."""
        number = self._last.get(kind, 0) + 1
        while f"{kind} {number}" in self._taken:
            number += 1
        self._last[kind] = number
        return f"{kind} {number}"
