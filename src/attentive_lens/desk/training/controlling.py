"""Steering a run while it trains: pause, go on, stop, another learning rate; by files in its folder."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import BadValue
from attentive_lens.plan.optimisers import OptimiserSettings
from attentive_lens.training.control import PAUSE, STOP, STOP_AFTER_EPOCH, WORDS, Control
from attentive_lens.training.film import Frame
from attentive_lens.training.last_batch import LastBatch
from attentive_lens.workspace import Run

__all__ = ["ACTIONS", "CONTINUE", "PAUSE", "RATE", "STOP", "STOP_AFTER_EPOCH", "RunControl", "steer"]

CONTINUE, RATE = "continue", "rate"
ACTIONS: dict[str, str] = {
    PAUSE: "waits after its step, with everything on disk, until it is continued",
    CONTINUE: "goes on after a pause",
    STOP: "ends after its step; it can be resumed",
    STOP_AFTER_EPOCH: "ends when its epoch is over and evaluated; it can be resumed",
    RATE: "learns on with another learning rate, on which the schedule then works",
}
"""What can be asked of a run that trains, and what it then does."""


class RunControl(Control):
    """What is asked of a run through its folder, or of this process by a signal.

    Parameters
    ----------
    run : Run
        That this process trains.
    stop : callable
        Whether this process was asked to stop.
    until : int
        Epochs after which it is to stop; 0 for none.
    """

    def __init__(self, run: Run, stop: Callable[[], bool], until: int = 0) -> None:
        self.run, self.stop, self._until = run, stop, until
        rates = run.rates()
        self._last = rates[-1][1] if rates else None

    def word(self) -> str:
        """Of the process first, then of the folder; what is no word of ours asks nothing."""
        if self.stop():
            return STOP
        word = self.run.command()
        return word if word in WORDS else ""

    def until(self) -> int:
        """As it was asked for at the beginning."""
        return self._until

    def rate(self) -> float | None:
        """One that was written down already is not asked for again."""
        rate = self.run.commanded_rate()
        if rate is not None and rate == self._last:
            self.run.forget_rate()
            return None
        return rate

    def keep_rates(self, rates: Sequence[tuple[int, float]]) -> None:
        """Written down first, then no longer asked for: a process that dies between the two loses nothing."""
        self.run.keep_rates(rates)
        self._last = rates[-1][1]
        self.run.forget_rate()

    def show(self, batch: LastBatch) -> None:
        """In a file of the run's folder."""
        batch.write(self.run.last_batch)

    def keep_frame(self, frame: Frame) -> None:
        """In a file of its own in the run's folder."""
        frame.write(self.run.film)


def steer(run: Run, action: str, rate: float = 0.0) -> str:
    """Ask a run that trains for one of `ACTIONS`; returns a sentence that says what will be.

    Raises
    ------
    BadValue
        If it does not train, is not paused where it should go on, or the rate is none.
    BadFile
        If its folder cannot be written.
    """
    view = RunReader(run).view()
    if view.state != "training":
        why = f"it is {view.state}" if view.state != "broken off" else "it broke off"
        raise BadValue(f"Run {run.number} cannot be told to {action}", why, "Only a run that trains can")
    if action == RATE:
        known = OptimiserSettings.specs()["learning_rate"]
        low, high = known.low or 0.0, known.high or 0.0
        if not low <= rate <= high:
            raise BadValue(
                f"The learning rate of run {run.number} stays", f"{rate:g} is not from {low:g} to {high:g}", "Change it"
            )
        run.ask_rate(rate)
        return f"Run {run.number} learns on with learning rate {rate:g}; a resume repeats it."
    if action == CONTINUE:
        run.forget_word()
    else:
        run.ask(action)
    return f"Run {run.number} {ACTIONS[action]}."
