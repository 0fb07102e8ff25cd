"""The request that asks whether a base can help before anything is trained on it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.records import PlainTable
from attentive_lens.core.telling import Rows, Words, signed
from attentive_lens.core.values import spec
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


HELPS, DOES_NOT, UNKNOWN = "helps", "does not help", "cannot be told"


@dataclass(frozen=True)
class WayTried:
    """A way for the network to begin, trained shortly, beside new weights.

    Attributes
    ----------
    way : str
        "new weights", "frozen" or "learning on".
    accuracy, halfway : float
        On images held out, each answered by models that never saw it, 0–1; and after trainings half as long.
    gain : float
        Over new weights, after the short trainings.
    final, low, high : float
        What is left of it at the end of the plan's training, with its 90 % interval.
    seconds : float
        The short trainings took.
    """

    way: str
    accuracy: float
    halfway: float
    gain: float
    final: float
    low: float
    high: float
    seconds: float


@dataclass(frozen=True)
class WaysCompared:
    """Ways to begin, compared by short trainings.

    Attributes
    ----------
    ways : tuple of WayTried
        New weights first.
    images, learned_from, passes, whole : int
        Images that were answered, images that each training learned from, how many times it saw one, and how many
        times the plan does.
    verdict : str
        "helps" where an interval of the base's ways lies above two points, "does not help" where all lie below, else
        "cannot be told".
    """

    ways: tuple[WayTried, ...]
    images: int
    learned_from: int
    passes: int
    whole: int
    verdict: str

    @property
    def best(self) -> WayTried:
        """Of the base's ways, the one that is surest to be ahead."""
        return max(self.ways[1:], key=lambda each: each.low)

    def words(self) -> Words:
        """Every way, and what follows."""
        rows = [
            (
                each.way,
                *(f"{part:.1%}" for part in (each.halfway, each.accuracy)),
                *(signed(100 * part, ".1f") for part in (each.gain, each.low, each.high)),
                f"{each.seconds:.1f} s",
            )
            for each in self.ways
        ]
        heads = ("short trainings", "half as long", "accuracy", "ahead by", "at the end: from", "to", "took")
        yield Rows(heads, tuple(rows))
        yield self.sentence

    @property
    def sentence(self) -> str:
        """The verdict, with the figures it stands on."""
        new, best = self.ways[0], self.best
        seen = f"After short trainings {best.way} is right on {best.accuracy:.0%} of {self.images} images held out"
        figures = f"{seen}, new weights on {new.accuracy:.0%}"
        within = f"{signed(100 * best.low, '.0f')} to {signed(100 * best.high, '.0f')} points"
        if self.verdict == HELPS:
            return f"The base helps. {figures}; trained to the end, {within} should be left of that (90 %)."
        if self.verdict == DOES_NOT:
            return f"The base does not help. {figures}; trained to the end, {within} (90 %). Train from new weights."
        return f"Whether the base helps cannot be told. {figures}; trained to the end, {within} (90 %)."


@dataclass(frozen=True)
class BaseProbe:
    """What a base's layers know of the images, and whether it helps.

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
    advice : str
        What follows for the last layer taken over, with the figures.
    compared : WaysCompared or None
        By short trainings; None where they were not asked for and are not known from before.
    """

    base: str
    layers: tuple[ProbedLayer, ...]
    chosen: ProbedLayer
    best: ProbedLayer
    untrained: float
    pixels: float
    images: int
    judged_by: int
    advice: str
    compared: WaysCompared | None = None

    def words(self) -> Words:
        """Every layer beside what untrained ones and the pixels give, and what follows."""
        rows = [(layer.layer, layer.statistics, f"{layer.accuracy:.1%}") for layer in self.layers]
        rows.append(("random weights, best layer", "training images", f"{self.untrained:.1%}"))
        rows.append(("pixels", "", f"{self.pixels:.1%}"))
        yield Rows(("layer", "statistics of", "accuracy"), tuple(rows))
        yield self.advice
        if self.compared is not None:
            yield from self.compared.words()


@dataclass(frozen=True)
class ProbeBase(Request[BaseProbe]):
    """Ask whether a base helps, before training on it.

    A linear classifier on each of its layers tells which of them knows most. Short trainings of what would be compared
    (new weights, the base frozen, the base learning on) tell whether it is ahead, on images they never saw, and what
    should be left of that at the end.
    """

    result: ClassVar[type[object]] = BaseProbe
    task: ClassVar[str] = "probing.probe"
    doing: ClassVar[str] = "asking the base"
    workspace: str
    plan: PlainTable
    quick: bool = spec(False, meaning="Only ask the layers, in seconds; the short trainings take minutes.")
