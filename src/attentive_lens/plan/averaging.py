"""Weight averaging's settings. To add one: a class and a line here, its arithmetic in ``training/averaging``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import Kind, spec


@dataclass(frozen=True)
class AveragingSettings(Kind):
    """Base of the ways to average weights over steps; what is judged and kept as best are the averaged ones."""

    section: ClassVar[str] = "averaging"

    @property
    def state_arrays(self) -> int:
        """Arrays of the weights' size that it keeps, for the memory a run needs: the mean."""
        return 1


@dataclass(frozen=True)
class NoAveraging(AveragingSettings):
    """The weights themselves."""

    kind: ClassVar[str] = "none"
    idea: ClassVar[str] = "The weights are judged and kept as the last step left them."

    @property
    def state_arrays(self) -> int:
        """None."""
        return 0


@dataclass(frozen=True)
class ExponentialMovingAverage(AveragingSettings):
    """A running mean."""

    kind: ClassVar[str] = "exponential moving average"
    idea: ClassVar[str] = "Judges and keeps a running mean of the weights, in which older steps fade."

    decay: float = spec(
        0.99,
        label="decay",
        low=0.0,
        high=0.99999,
        meaning="Part of the mean kept at each step; 0.99: about 100 steps.",
        ends="Usual: 0.99 to 0.999. Near 0 it is the weights of the last step; so near 1 that the memory "
        "outlasts the run, beginnings are still in it.",
    )


@dataclass(frozen=True)
class StochasticWeightAveraging(AveragingSettings):
    """The plain mean of the last epochs."""

    kind: ClassVar[str] = "stochastic weight averaging"
    idea: ClassVar[str] = "Judges and keeps the plain mean of the weights at the ends of the last epochs."

    start: float = spec(
        0.75,
        label="start",
        low=0.0,
        high=1.0,
        meaning="Part of the run after which the mean begins to be taken.",
        ends="Usual: 0.75. Near 0 weights that had not learned yet are in the mean; near 1 it is of few epochs.",
    )


AVERAGING: dict[str, type[AveragingSettings]] = {
    averaging.kind: averaging for averaging in (NoAveraging, ExponentialMovingAverage, StochasticWeightAveraging)
}
