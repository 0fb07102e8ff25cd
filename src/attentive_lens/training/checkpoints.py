"""Keeping the best and the last weights on disk, without spending more than a fiftieth of the time on it."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from attentive_lens.core.files import remove_leftovers
from attentive_lens.core.records import PlainTable
from attentive_lens.engine.arrays import Weights
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.training.learner import Learner

SHARE = 0.02
"""Most of a run's time that writing may take."""


class Checkpoints:
    """``best.alens`` and ``last.alens`` in a run's folder.

    Parameters
    ----------
    folder : Path
        Made if missing.
    model : ModelFile
        All but the weights and the card.
    keep_last : int
        Models of so many last epochs that are kept besides.
    keep_every : int
        Epochs between models that are kept for good; 0: none.
    seconds : float
        Between two checkpoints within an epoch.
    """

    def __init__(
        self,
        folder: Path,
        model: ModelFile,
        clock: Callable[[], float] = time.perf_counter,
        keep_last: int = 0,
        keep_every: int = 0,
        seconds: float = 120.0,
    ) -> None:
        folder.mkdir(exist_ok=True)
        remove_leftovers(folder)
        self.folder, self.model, self.clock = folder, model, clock
        self.keep_last, self.keep_every, self.seconds = keep_last, keep_every, seconds
        self.best: tuple[Weights, PlainTable] | None = None
        self._best_written = True
        self._spent, self._started = 0.0, clock()
        self._last = self._started

    def keep(self, learner: Learner, card: PlainTable, is_best: bool) -> bool:
        """After an epoch: remember the best in memory, and write both if there is time for it; whether it did."""
        if is_best:
            self.best = (learner.model(), card)
            self._best_written = False
        if self.keep_last or self._is_kept(int(str(card["epoch"]))):
            self._keep_epoch(learner, card)
        if self._spent <= SHARE * (self.clock() - self._started):
            self.write(learner, card)
            return True
        return False

    def keep_now_and_then(self, learner: Learner, card: Callable[[], PlainTable]) -> bool:
        """Within a long epoch: write every few minutes, so that little is lost with the machine; whether it did."""
        if self.clock() - self._last > self.seconds:
            self.write(learner, card())
            return True
        return False

    def _keep_epoch(self, learner: Learner, card: PlainTable) -> None:
        """Write an epoch's model, then remove those that are no longer among the last."""
        file = self.folder / f"epoch-{int(str(card['epoch'])):04d}.alens"
        replace(self.model, weights=learner.model(), card=card).write(file)
        numbers = sorted(int(old.stem.removeprefix("epoch-")) for old in self.folder.glob("epoch-*.alens"))
        last = numbers[len(numbers) - self.keep_last :] if self.keep_last else []
        for number in numbers:
            if number not in last and not self._is_kept(number):
                (self.folder / f"epoch-{number:04d}.alens").unlink(missing_ok=True)

    def _is_kept(self, epoch: int) -> bool:
        """Whether an epoch's model is kept for good."""
        return self.keep_every > 0 and epoch % self.keep_every == 0

    def write(self, learner: Learner, card: PlainTable) -> None:
        """Write the best if it is not on disk yet, then the last state: a best epoch is never older than it says."""
        began = self.clock()
        if self.best is not None and not self._best_written:
            weights, best_card = self.best
            replace(self.model, weights=weights, card=best_card).write(self.folder / "best.alens")
            self._best_written = True
        last = replace(self.model, weights=learner.weights(), card=card, optimiser=learner.memory())
        last.write(self.folder / "last.alens")
        self._last = self.clock()
        self._spent += self._last - began
