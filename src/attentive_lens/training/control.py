"""What somebody outside may want of a run, and see of it, while it trains."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TypeAlias

from attentive_lens.training.film import Frame
from attentive_lens.training.last_batch import LastBatch

PAUSE, STOP, STOP_AFTER_EPOCH = "pause", "stop", "stop after epoch"
WORDS = (PAUSE, STOP, STOP_AFTER_EPOCH)

Rates: TypeAlias = tuple[tuple[int, float], ...]
"""Learning rates that were set while a run trained: the step, from 0, from which each holds, in their order."""


class Control:
    """Nobody wants anything; whoever does overrides it."""

    def word(self) -> str:
        """What is asked for, one of `WORDS`, or nothing; asked after every step."""
        return ""

    def until(self) -> int:
        """Epochs after which it is to stop whatever the plan says; 0 for none."""
        return 0

    def rate(self) -> float | None:
        """A learning rate that is to hold from the next step on; None if it stays."""
        return None

    def keep_rates(self, rates: Sequence[tuple[int, float]]) -> None:
        """Write down all rates that were set, before the last one is used: a run that goes on repeats them."""

    def show(self, batch: LastBatch) -> None:
        """Show some images of the last batch to whoever looks."""
        del batch

    def keep_frame(self, frame: Frame) -> None:
        """Keep what a network that draws drew after an epoch."""
        del frame


def rate_at(rates: Rates, step: int, planned: float) -> float:
    """The learning rate that holds at a step, before the schedule's factor."""
    return next((rate for first, rate in reversed(rates) if first <= step), planned)
