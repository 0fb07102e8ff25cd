"""The request for what learning rates do to a plan's loss, before it is trained."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.records import PlainTable
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


@dataclass(frozen=True)
class SweepRates(Request[RatesSwept]):
    """Train a plan, given as its table, for a moment at rising learning rates; nothing of it is kept."""

    result: ClassVar[type[object]] = RatesSwept
    task: ClassVar[str] = "sweeping.sweep_rates"
    workspace: str
    plan: PlainTable
