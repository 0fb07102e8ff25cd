"""What every operator gets: its node's attributes, the version of the standard, and a cap on what it may make."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from attentive_lens.errors import BadFile

Values: TypeAlias = NDArray[Any]
"""Any array of the standard, in its own layout: N×C×H×W."""
LARGEST = 2**28
"""Numbers that one output may have: more is taken for a mistake, or for malice."""


@dataclass(frozen=True)
class Node:
    """A node of a graph.

    Attributes
    ----------
    name, operator : str
        What it is called, and what it does.
    version : int
        Of the standard's operators.
    inputs, outputs : tuple of str
        Names; an empty one stands for an input that is left out.
    attributes : mapping
        By name: numbers, words, arrays, or lists of them.
    """

    name: str
    operator: str
    version: int
    inputs: tuple[str, ...] = ()
    outputs: tuple[str, ...] = ()
    attributes: Mapping[str, Any] = field(default_factory=dict)

    def get(self, name: str, usual: Any = None) -> Any:
        """An attribute, or what the standard has for it where it is left out."""
        return self.attributes.get(name, usual)

    def refuse(self, why: str, remedy: str = "Export it again in another way") -> BadFile:
        """What is raised where it cannot be carried out."""
        return BadFile(f"{self.operator} «{self.name}» cannot be carried out", why, remedy)

    def check_size(self, shape: Sequence[int], what: str = "its output of") -> None:
        """Refuse an output, or what is laid out on the way to it, that is too large before it takes its memory."""
        if min(shape, default=0) < 0 or math.prod(shape) > LARGEST:
            raise self.refuse(f"{what} {'×'.join(map(str, shape))} numbers is larger than can be meant")


Operator: TypeAlias = Callable[..., Values | tuple[Values, ...]]
"""(node, input, …) → output, or a tuple of them; an input that is left out is None."""


def is_plain(kind: np.dtype[Any]) -> bool:
    """Whether a type of NumPy's is one of its own, of numbers or of yes and no."""
    return kind.isbuiltin == 1 and kind.kind in "fiub"


def whole_numbers(values: Any) -> list[int]:
    """Whole numbers from an array or a list."""
    return [int(value) for value in np.asarray(values).reshape(-1)]


def axes_of(axes: Any, rank: int, node: Node) -> tuple[int, ...]:
    """Axes counted from the front, each once.

    Raises
    ------
    BadFile
        If one is beyond the rank, or named twice.
    """
    counted = tuple(axis + rank if axis < 0 else axis for axis in whole_numbers(axes))
    if any(not 0 <= axis < rank for axis in counted) or len(set(counted)) != len(counted):
        raise node.refuse(f"its axes {whole_numbers(axes)} are not axes of an array of rank {rank}")
    return counted
