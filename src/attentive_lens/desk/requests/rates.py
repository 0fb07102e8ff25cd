"""The request for what learning rates do to a plan's loss, before it is trained."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.records import PlainTable
from attentive_lens.core.telling import Rows, Words
from attentive_lens.desk.requests.base import Request


@dataclass(frozen=True)
class RatesSwept:
    """The loss after a step with each of ever greater learning rates.

    Attributes
    ----------
    rates, losses, curve : tuple of float
        Rates, the loss on the same images after a step with each, and the same smoothed; they end where it ran away.
    lowest, highest, suggested : float
        Rates between which the loss falls, and the one to begin with; 0 where none made it fall.
    advice : str
        The same in a sentence.
    """

    rates: tuple[float, ...]
    losses: tuple[float, ...]
    curve: tuple[float, ...]
    lowest: float
    highest: float
    suggested: float
    advice: str

    def words(self) -> Words:
        """Every fifth rate, and what to begin with."""
        rows = [
            (f"{rate:.2g}", f"{loss:.3f}", f"{smooth:.3f}",
             "falls" if self.lowest <= rate <= self.highest and self.suggested else "")
            for rate, loss, smooth in list(zip(self.rates, self.losses, self.curve, strict=True))[::5]
        ]  # fmt: skip
        yield Rows(("learning rate", "loss after a step", "smoothed", ""), tuple(rows))
        yield self.advice


@dataclass(frozen=True)
class SweepRates(Request[RatesSwept]):
    """Train a plan for a moment at rising learning rates: the loss after each, and which to begin with."""

    result: ClassVar[type[object]] = RatesSwept
    task: ClassVar[str] = "sweeping.sweep_rates"
    doing: ClassVar[str] = "sweeping the learning rate"
    workspace: str
    plan: PlainTable
