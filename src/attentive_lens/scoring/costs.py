"""What mistakes cost, and the decision that costs least in expectation.

With probabilities p of the classes the decision d costs Σ p(c)·cost(c, d) on average; the least of these is Bayes'
decision (Duda & Hart 1973, section 2.2). With the same cost for every mistake it is the most probable class.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.scoring.intervals import interval_of_mean

WITHHELD = "withheld"
"""The decision to say no class."""


@dataclass(frozen=True, eq=False)
class CostTable:
    """What each decision costs where a class is true.

    Attributes
    ----------
    decisions : tuple of str
        The classes in their order, and `WITHHELD` if that has a cost.
    costs : ndarray, K×D float64
        Row true, column decided, in any unit; below zero is a gain.
    """

    decisions: tuple[str, ...]
    costs: NDArray[np.float64]

    def least(self, probabilities: NDArray[np.floating[Any]]) -> NDArray[np.int64]:
        """The decision of least expected cost for each of N images, from probabilities N×K; of equal ones the first."""
        return np.asarray((probabilities.astype(np.float64) @ self.costs).argmin(axis=1), np.int64)

    def of(self, true: NDArray[np.int64], decided: NDArray[np.int64]) -> NDArray[np.float64]:
        """What decisions about N images cost."""
        return self.costs[true, decided]


@dataclass(frozen=True)
class Cost:
    """A mean cost an image, with its interval of 95 % (Student's); None where there is too little for one."""

    value: float
    low: float | None
    high: float | None

    @classmethod
    def of(cls, costs: NDArray[np.float64], groups: NDArray[np.int64]) -> Cost:
        """From what N images cost, where those of a group are alike."""
        low, high = interval_of_mean(costs, groups)
        return cls(float(costs.mean()), *((low, high) if np.isfinite(low) else (None, None)))

    def __str__(self) -> str:
        """«0.31 (0.25 to 0.37)»."""
        if self.low is None or self.high is None:
            return f"{self.value:.3g}"
        return f"{self.value:.3g} ({self.low:.3g} to {self.high:.3g})"

    @property
    def may_be_none(self) -> bool:
        """Whether the interval holds zero, or there is none."""
        return self.low is None or self.high is None or self.low <= 0 <= self.high


def at_temperature(probabilities: NDArray[np.floating[Any]], temperature: float) -> NDArray[np.float64]:
    """Probabilities N×K as softmax would give them of scores divided by a temperature."""
    logs = np.log(np.maximum(probabilities.astype(np.float64), 1e-30)) / temperature
    powers = np.exp(logs - logs.max(axis=1, keepdims=True))
    return np.asarray(powers / powers.sum(axis=1, keepdims=True))
