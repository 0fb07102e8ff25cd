"""The request that asks whether a base can help before anything is trained on it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.records import PlainTable
from attentive_lens.core.telling import Rows, Words
from attentive_lens.desk.requests.base import Request


@dataclass(frozen=True)
class ProbedLayer:
    """A layer of the base, whose statistics standardised the images, and the linear probe's accuracy on its output.

    Attributes
    ----------
    layer : str
        Its name.
    statistics : str
        "base" or "training images".
    accuracy : float
        On the validation images, 0–1.
    """

    layer: str
    statistics: str
    accuracy: float


@dataclass(frozen=True)
class BaseProbe:
    """What a linear classifier makes of a base's features, and of others.

    Attributes
    ----------
    base : str
        The model, in words.
    layers : tuple of ProbedLayer
        In the network's order, for each kind of statistics.
    chosen : ProbedLayer
        The one the plan would take over.
    best : ProbedLayer
        The most accurate.
    untrained : float
        The best accuracy on a layer of the same network with weights drawn at random.
    pixels : float
        Accuracy on the pixels.
    images, judged_by : int
        Training images that were learned from, and images the accuracy was measured on.
    helps : bool
        Whether the base knows more of these images than a network that was never trained.
    advice : str
        In words, with the figures.
    """

    base: str
    layers: tuple[ProbedLayer, ...]
    chosen: ProbedLayer
    best: ProbedLayer
    untrained: float
    pixels: float
    images: int
    judged_by: int
    helps: bool
    advice: str

    def words(self) -> Words:
        """Every layer beside what untrained ones and the pixels give, and what follows."""
        rows = [(layer.layer, layer.statistics, f"{layer.accuracy:.1%}") for layer in self.layers]
        rows.append(("random weights, best layer", "training images", f"{self.untrained:.1%}"))
        rows.append(("pixels", "", f"{self.pixels:.1%}"))
        yield Rows(("layer", "statistics of", "accuracy"), tuple(rows))
        yield self.advice


@dataclass(frozen=True)
class ProbeBase(Request[BaseProbe]):
    """Ask whether a base can help, before training on it: a linear classifier on each of its layers, and on pixels."""

    result: ClassVar[type[object]] = BaseProbe
    task: ClassVar[str] = "probing.probe"
    doing: ClassVar[str] = "asking the base"
    workspace: str
    plan: PlainTable
