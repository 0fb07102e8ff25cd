"""Advice: trouble that a run has, named by its figures, with the remedy as a new plan.

To add one: a subclass of `Advice` in the file of its family, and a line in `ADVICE`.
"""

from __future__ import annotations

from attentive_lens.training.advice.base import Advice, Finding, Record
from attentive_lens.training.advice.batches import BatchSize
from attentive_lens.training.advice.classes import ClassIgnored, Imbalance, ValidationNoise
from attentive_lens.training.advice.drawing import CodesUnused, OverFittingDrawn, StillImprovingDrawn
from attentive_lens.training.advice.fitting import OverFitting, Plateau, StillImproving, UnderFitting
from attentive_lens.training.advice.inputs import AugmentationOfNoEffect, AugmentationTooStrong, NotNormalised
from attentive_lens.training.advice.layers import DeadUnits, ExplodingGradients, VanishingGradients
from attentive_lens.training.advice.pairs import DrawingsAlike, OneSideHasWon, SquaresFromStride, ValuesAtLimit
from attentive_lens.training.advice.rates import Divergence, RateTooHigh, RateTooLow

ADVICE: dict[str, Advice] = {
    advice.kind: advice
    for advice in (
        Divergence(),
        ExplodingGradients(),
        VanishingGradients(),
        RateTooHigh(),
        RateTooLow(),
        DeadUnits(),
        NotNormalised(),
        BatchSize(),
        OverFitting(),
        AugmentationOfNoEffect(),
        UnderFitting(),
        AugmentationTooStrong(),
        ClassIgnored(),
        Imbalance(),
        Plateau(),
        StillImproving(),
        ValidationNoise(),
    )
}
"""Every piece of advice by its kind, what undoes a run first."""

OF_DRAWING: dict[str, Advice] = {
    advice.kind: advice for advice in (CodesUnused(), OverFittingDrawn(), StillImprovingDrawn())
}
"""As `ADVICE`, of runs that draw images again."""
OF_PAIRS: dict[str, Advice] = {
    advice.kind: advice for advice in (OneSideHasWon(), DrawingsAlike(), SquaresFromStride(), ValuesAtLimit())
}
"""Likewise, of runs that draw of noise."""

OF_LABELS: dict[str, Advice] = {
    kind: advice
    for kind, advice in ADVICE.items()
    if kind not in ("under-fitting", "augmentation too strong", "class ignored", "imbalance", "validation noise")
}
"""As `ADVICE`, of runs that answer several labels: all that goes by losses, and not by the part of the images that is
right, which every label makes smaller.
"""

GRAVE = frozenset(list(ADVICE)[: list(ADVICE).index("over-fitting")])
"""What undoes a run: nothing else is worth a try before it is mended."""

_LATER = frozenset(
    {"under-fitting", "plateau", "class ignored", "imbalance", "augmentation too strong", "still improving"}
)
OVERRULES: dict[str, frozenset[str]] = {
    "exploding gradients": _LATER | {"divergence", "rate too high", "rate too low", "dead units"},
    "divergence": _LATER | {"vanishing gradients", "rate too high", "rate too low", "dead units", "over-fitting"},
    "vanishing gradients": _LATER | {"rate too low", "rate too high"},
    "rate too high": _LATER | {"dead units"},
    "rate too low": _LATER,
    "input not normalised": frozenset({"dead units"}),
    "batch size": frozenset({"still improving", "augmentation too strong", "under-fitting"}),
    "over-fitting": frozenset({"still improving", "plateau"}),
    "one side has won": frozenset({"drawings alike"}),
    "codes unused": frozenset({"over-fitting", "still improving"}),
    "augmentation of no effect": frozenset({"over-fitting", "plateau", "still improving"}),
    "class ignored": frozenset({"imbalance"}),
    "augmentation too strong": frozenset({"under-fitting", "plateau"}),
}
"""What is not said besides an advice, for it has the same cause."""


def advise(run: Record) -> tuple[Finding, ...]:
    """All that is to be said of a run; of one that still trains what can be told by then."""
    result: dict[str, Finding] = {}
    task = run.plan.task
    own = OF_PAIRS if task.is_pair else OF_DRAWING if task.draws else OF_LABELS if task.several else ADVICE
    for kind, advice in own.items():
        if run.is_over or advice.live:
            finding = advice.find(run)
            if finding is not None:
                result[kind] = finding
    silent = {other for kind in result for other in OVERRULES.get(kind, ())}
    return tuple(finding for kind, finding in result.items() if kind not in silent)


__all__ = [
    "ADVICE",
    "GRAVE",
    "OF_DRAWING",
    "OF_LABELS",
    "OF_PAIRS",
    "OVERRULES",
    "Advice",
    "Finding",
    "Record",
    "advise",
]
