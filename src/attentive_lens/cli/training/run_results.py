"""What commands about runs print with ``--json``: how one ended, advice, sweeps, what was asked of it."""

from __future__ import annotations

from dataclasses import dataclass

from attentive_lens.desk.requests.remedies import NextSteps
from attentive_lens.desk.results.comparing import RunRow
from attentive_lens.training.figures import Figures
from attentive_lens.training.journal import EpochEvent


@dataclass(frozen=True)
class RunEnded:
    """How a run ended, and by which rule if before its epochs were over.

    The model is null before its first epoch is finished, validation without such a set.
    """

    run: int
    state: str
    epochs: int
    seconds: float
    weights_sha256: str
    validation: Figures | None
    model: str | None
    reason: str


@dataclass(frozen=True)
class Advised(NextSteps):
    """What to do next after a run, and the files that the remedies' plans were written to, in their order."""

    plans: tuple[str, ...] = ()


@dataclass(frozen=True)
class CrossValidated:
    """Cross-validation: a run a fold, images answered by a model that never saw them, and the part that is right."""

    runs: tuple[int, ...]
    images: int
    accuracy: float
    low: float
    high: float
    by_fold: tuple[float, ...]
    answers: str | None


@dataclass(frozen=True)
class RunQueued:
    """A run that waits, or trains because none did; and how many wait now."""

    run: int
    state: str
    waiting: int


@dataclass(frozen=True)
class Steered:
    """What was asked of a run that trains."""

    run: int
    action: str
    sentence: str


@dataclass(frozen=True)
class SweepDone:
    """The runs of a sweep, the best first, and its number; or the numbers of those that wait in the queue."""

    ranked: tuple[RunRow, ...]
    best: int | None
    queued: tuple[int, ...]


@dataclass(frozen=True)
class RunsInBin:
    """Numbers of the runs in the bin, and those that this command put there, brought back or removed for good."""

    deleted: tuple[int, ...]
    put: tuple[int, ...] = ()
    restored: tuple[int, ...] = ()
    removed: tuple[int, ...] = ()


@dataclass(frozen=True)
class RunWatched:
    """How far a run is; ``last`` is its last epoch, null before there is one."""

    run: int
    state: str
    epochs: int
    last: EpochEvent | None
    loss_function: str
    error: str
    damaged_lines: int
    relabelled: tuple[int, ...]
