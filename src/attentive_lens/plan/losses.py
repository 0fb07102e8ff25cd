"""The losses' settings. To add one: a class and a line here, a function and a line in ``engine/losses``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.extensions import take_kinds
from attentive_lens.core.values import Kind, spec
from attentive_lens.errors import BadValue


@dataclass(frozen=True)
class LossSettings(Kind):
    """Base of the losses' settings.

    Attributes
    ----------
    output : str
        What makes answers of the raw scores a network trained by it gives, one of ``engine.outputs.OUTPUTS``.
    """

    section: ClassVar[str] = "loss"
    output: ClassVar[str] = "softmax"

    class_weights: str = spec(
        "none",
        label="class weights",
        choices=("none", "balanced"),
        meaning="Balanced: every class counts as much as any other, so that rare ones weigh more; none: every image"
        " counts the same.",
    )

    def outputs(self, classes: int) -> int:
        """Raw scores that the network gives for so many classes."""
        return classes

    def misfit(self, classes: int) -> BadValue | None:
        """Why it cannot be trained by on images of so many classes; None if it can."""
        del classes
        return None

    def check(self, classes: int) -> None:
        """Raise `misfit`, if there is one."""
        if (error := self.misfit(classes)) is not None:
            raise error


@dataclass(frozen=True)
class CrossEntropy(LossSettings):
    """Softmax cross-entropy."""

    kind: ClassVar[str] = "cross-entropy"
    idea: ClassVar[str] = "Cross-entropy of the softmax of all scores: one class is right, and the others are not."

    label_smoothing: float = spec(
        0.0,
        label="label smoothing",
        low=0.0,
        high=0.9,
        meaning="Part of every label shared out over all classes.",
        ends="Usual: 0 to 0.1. At 0 answers become as sure as they can; large ones keep all of them unsure.",
    )


@dataclass(frozen=True)
class SigmoidCrossEntropy(LossSettings):
    """Sigmoid cross-entropy."""

    kind: ClassVar[str] = "sigmoid cross-entropy"
    idea: ClassVar[str] = "Cross-entropy of every class by itself: an image may look like several, or like none."
    output: ClassVar[str] = "sigmoid"

    label_smoothing: float = spec(
        0.0,
        label="label smoothing",
        low=0.0,
        high=0.9,
        meaning="Part of every label shared out over all classes.",
        ends="Usual: 0 to 0.1. At 0 answers become as sure as they can; large ones keep all of them unsure.",
    )


@dataclass(frozen=True)
class BinaryCrossEntropy(LossSettings):
    """One score for two classes."""

    kind: ClassVar[str] = "binary cross-entropy"
    idea: ClassVar[str] = "One score for two classes; its sigmoid is the probability of the second."
    output: ClassVar[str] = "one sigmoid"

    label_smoothing: float = spec(
        0.0,
        label="label smoothing",
        low=0.0,
        high=0.9,
        meaning="Part of every label shared out over both classes.",
        ends="Usual: 0 to 0.1. At 0 answers become as sure as they can; large ones keep all of them unsure.",
    )

    def outputs(self, classes: int) -> int:
        """One, whatever the number of classes: see `misfit`."""
        del classes
        return 1

    def misfit(self, classes: int) -> BadValue | None:
        """Any other number than two."""
        if classes == 2:
            return None
        why = f"binary cross-entropy tells two classes apart, and there are {classes}"
        return BadValue("The loss does not fit the images", why, "Choose cross-entropy")


@dataclass(frozen=True)
class SquaredError(LossSettings):
    """Squared error."""

    kind: ClassVar[str] = "squared error"
    idea: ClassVar[str] = "Half the squared distance from 1 for the class and 0 for the others; no probabilities."
    output: ClassVar[str] = "none"


@dataclass(frozen=True)
class AbsoluteError(LossSettings):
    """Absolute error."""

    kind: ClassVar[str] = "absolute error"
    idea: ClassVar[str] = "The distance from 1 for the class and 0 for the others; outliers count less."
    output: ClassVar[str] = "none"


LOSSES: dict[str, type[LossSettings]] = {
    loss.kind: loss for loss in (CrossEntropy, SigmoidCrossEntropy, BinaryCrossEntropy, SquaredError, AbsoluteError)
}
take_kinds(LOSSES, "plan.losses", LossSettings)
