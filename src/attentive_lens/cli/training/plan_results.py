"""What the commands about plans print with --json."""

from __future__ import annotations

from dataclasses import dataclass

from attentive_lens.core.records import PlainTable
from attentive_lens.desk.requests.prices import PlanPrice
from attentive_lens.plan.difference import Difference
from attentive_lens.plan.outline import Setting


@dataclass(frozen=True)
class PlanWritten:
    """A plan, and the file it was written to if any."""

    file: str | None
    plan: PlainTable


@dataclass(frozen=True)
class PlanKeys:
    """Every key that --set takes."""

    settings: tuple[Setting, ...]


@dataclass(frozen=True)
class LayerFacts:
    """A layer's output for one image, its weights and multiply-adds."""

    layer: str
    shape: tuple[int, ...]
    weights: int
    multiply_adds: int


@dataclass(frozen=True)
class PlanChecked:
    """A plan's network, layer by layer."""

    name: str
    weights: int
    layers: tuple[LayerFacts, ...]


@dataclass(frozen=True)
class LayerShown:
    """A layer: its output for one image, what it costs, and what it sees.

    Attributes
    ----------
    layer : str
        Its name.
    shape : tuple of int
        Of its output.
    weights, multiply_adds, memory : int
        Numbers that training changes, products for one image, bytes of its output for one image.
    receptive_field : int or None
        Side in image pixels; None when it is the whole image.
    share : float
        Its part of all multiply-adds, 0–1.
    frozen : bool
        Whether it keeps its weights.
    """

    layer: str
    shape: tuple[int, ...]
    weights: int
    multiply_adds: int
    memory: int
    receptive_field: int | None
    share: float
    frozen: bool


@dataclass(frozen=True)
class PlanShown:
    """A plan's network with what it costs; the price where a workspace was named.

    ``computed_once`` is the last layer of a frozen part whose outputs are kept, ``why_not_once`` why there is none.
    """

    name: str
    weights: int
    multiply_adds: int
    layers: tuple[LayerShown, ...]
    price: PlanPrice | None
    computed_once: str = ""
    why_not_once: str = ""


@dataclass(frozen=True)
class PlansCompared:
    """What two plans differ in."""

    differences: tuple[Difference, ...]
