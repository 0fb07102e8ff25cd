"""Nodes of a network: named layers, each fed by the nodes it stands after, and names for new ones."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from attentive_lens.plan.layers import LayerSettings

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

    ``lr_multiplier`` multiplies the learning rate of its weights: 0 holds them as they are. ``part_of`` is the name of
    the block it was built as a part of, empty for a layer that stands alone.
    """

    name: str
    layer: LayerSettings
    after: tuple[str, ...]
    lr_multiplier: float = 1.0
    part_of: str = ""


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
