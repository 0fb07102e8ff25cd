"""Requests about several labels for one image: how a run did on each, and from which probability each is said."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request
from attentive_lens.scoring.labels import LabelScores
from attentive_lens.scoring.thresholds import COST, F1, FEWEST, PRECISION, RULES, ThresholdRule


@dataclass(frozen=True)
class ScoreLabels(Request[LabelScores]):
    """How a run that answers several labels did on a set: label by label, by rank, and which labels go together."""

    result: ClassVar[type[object]] = LabelScores
    task: ClassVar[str] = "labels.score_labels"
    doing: ClassVar[str] = "scoring"
    workspace: str
    run: int
    on: str = "validation"


@dataclass(frozen=True)
class LabelThreshold:
    """From which probability a label is said.

    Attributes
    ----------
    label : str
    threshold : float
        0–1.
    by : str
        What it was chosen by.
    support : int
        Validation images that have it.
    """

    label: str
    threshold: float
    by: str
    support: int


@dataclass(frozen=True)
class ThresholdsWorth:
    """What thresholds come to on validation images they were not chosen on, each half by the other's.

    Attributes
    ----------
    macro_f1, precision, recall : float or None
        Mean F1 of the labels; of all labels said, those that are there; of all there, those said.
    cost : float
        Of an image's mistakes, by the costs of the rule.
    """

    macro_f1: float | None
    precision: float | None
    recall: float | None
    cost: float


@dataclass(frozen=True)
class ThresholdsChosen:
    """The thresholds of a run.

    Attributes
    ----------
    run : int
    images : int
        Validation images they were chosen on.
    labels : tuple of LabelThreshold
        In the order of the labels.
    by : str
        The rule that is told about: the one they were chosen by now, or else F1.
    worth, at_half : ThresholdsWorth
        What thresholds by that rule come to on other images, and 0.5 for all.
    """

    run: int
    images: int
    labels: tuple[LabelThreshold, ...]
    by: str
    worth: ThresholdsWorth
    at_half: ThresholdsWorth

    def words(self) -> Iterator[str]:
        """A line a label, and what it comes to."""
        width = max((len(each.label) for each in self.labels), default=0)
        for each in self.labels:
            yield f"{each.label:{width}}  {each.threshold:.3f}  by {each.by}; {each.support} validation images have it"
        yield self.sentence

    @property
    def sentence(self) -> str:
        """What choosing brings on images it was not done on."""
        now, half = self.worth, self.at_half
        if now.macro_f1 is None or half.macro_f1 is None:
            return "No label is in the validation images: nothing tells what thresholds bring."
        begin = "On validation images they were not chosen on"
        if self.by.startswith(COST):
            verdict = "less" if now.cost < half.cost else "no less"
            return f"{begin}, mistakes cost {now.cost:.3f} an image, {verdict} than the {half.cost:.3f} of 0.5 for all."
        if self.by.startswith(PRECISION):
            own, before = ((_part(each.precision), _part(each.recall)) for each in (now, half))
            words = f"{own[0]} of the labels said are there, and {own[1]} of those there are said"
            return f"{begin}, {words}; with 0.5 for all {before[0]} and {before[1]}."
        verdict = "more" if now.macro_f1 > half.macro_f1 else "no more"
        return f"{begin}, macro F1 is {now.macro_f1:.3f}, {verdict} than the {half.macro_f1:.3f} of 0.5 for all."


def _part(value: float | None) -> str:
    return "none" if value is None else f"{value:.1%}"


@dataclass(frozen=True)
class ChooseThresholds(Request[ThresholdsChosen]):
    """Choose from which probability a run says each of its labels, on the validation set.

    Without a rule it tells the thresholds as they are.
    """

    result: ClassVar[type[object]] = ThresholdsChosen
    task: ClassVar[str] = "labels.choose_thresholds"
    doing: ClassVar[str] = "choosing thresholds"
    workspace: str
    run: int
    by: str = spec(
        "",
        choices=("", *RULES),
        meaning=f"The greatest F1, the least cost, a precision, or fixed; a label that fewer than {FEWEST} images have"
        " stays at 0.5.",
    )
    precision: float = spec(0.9, low=0.0, high=1.0, meaning="Least precision, by precision.")
    missed: float = spec(1.0, low=0.0, high=1e9, meaning="By cost: what a label costs that is there and not said.")
    false: float = spec(1.0, low=0.0, high=1e9, meaning="By cost: what a label costs that is said and not there.")
    value: float = spec(0.5, low=0.0, high=1.0, meaning="The threshold, fixed.")
    labels: tuple[str, ...] = spec((), label="label", names="name", meaning="Only of this label. Repeatable.")

    @property
    def rule(self) -> ThresholdRule:
        """As it is asked for."""
        return ThresholdRule(self.by or F1, self.precision, self.missed, self.false, self.value)
