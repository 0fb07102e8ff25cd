"""The request that lets a plan run through in small, before the long run."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.records import PlainTable
from attentive_lens.desk.requests.base import Request


@dataclass(frozen=True)
class Rehearsed:
    """What came of a plan that ran through in small.

    Attributes
    ----------
    training, validation : int
        Images that were learned from, and asked about.
    batches : int
        Steps taken.
    seconds : float
        It took.
    losses : tuple of float
        Training loss of each epoch.
    runs_away : bool
        Whether the last is far above what guessing has.
    accuracy : float or None
        On the validation images; of no account after so few steps, but a number. None without such images.
    """

    training: int
    validation: int
    batches: int
    seconds: float
    losses: tuple[float, ...]
    runs_away: bool
    accuracy: float | None

    def words(self) -> Iterator[str]:
        """That it runs, and how its loss went."""
        done = f"{self.batches} batches of {self.training} training images in {len(self.losses)} epochs"
        scored = f", {self.validation} validation images scored" if self.accuracy is not None else ""
        yield f"It runs through, in {self.seconds:.1f} s: {done}, stopped and gone on with between them{scored}."
        first, last = self.losses[0], self.losses[-1]
        if self.runs_away:
            yield f"But its loss runs away: {first:.3g}, then {last:.3g}. Choose a lower learning rate."
        else:
            word = "falls" if last < first else "does not fall yet"
            yield f"The loss {word}: {first:.3f}, then {last:.3f}. How good it will be, so little cannot tell."


@dataclass(frozen=True)
class Rehearse(Request[Rehearsed]):
    """Let a plan run through on a few images: trained, stopped, gone on with, and scored; nothing of it is kept.

    It takes seconds, and what would end the long run after hours ends this one: images that cannot be read, a base
    that does not fit, too little memory, a loss that is no number, a disk that cannot be written.
    """

    result: ClassVar[type[object]] = Rehearsed
    task: ClassVar[str] = "rehearsing.rehearse"
    doing: ClassVar[str] = "rehearsing the plan"
    workspace: str
    plan: PlainTable
