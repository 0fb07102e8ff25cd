"""What measuring the engine gives, as plain values."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Figure:
    """One line of the table.

    Attributes
    ----------
    what : str
        What was timed.
    ratio, low, high : float or None
        Median of the ratios to the peak, and their range; None if time was stolen from every sample.
    samples, dropped : int
        Ratios taken, and those left out because time was stolen.
    kernel : str
        Which kernel ran, where there are several.
    """

    what: str
    ratio: float | None
    low: float | None
    high: float | None
    samples: int
    dropped: int
    kernel: str = ""


@dataclass(frozen=True)
class EpochFigure:
    """An epoch as a user runs it.

    Attributes
    ----------
    name : str
        Of the starting network.
    ratio : float
        Multiply-adds done a second, as a share of the peak taken before and after.
    low, high : float
        The same of the slowest and of the fastest of the epochs that were counted.
    seconds : float
        It took.
    multiply_adds : int
        Done in it, by the direct formula.
    shares : dict
        Part → its share, 0–1, of the processors' time.
    """

    name: str
    ratio: float
    low: float
    high: float
    seconds: float
    multiply_adds: int
    shares: dict[str, float]


@dataclass(frozen=True)
class Held:
    """By how many megabytes a process grew while it trained, what a step must hold, and their ratio."""

    grown_mb: float
    needed_mb: float
    ratio: float


@dataclass(frozen=True)
class Change:
    """A figure of both.

    Attributes
    ----------
    what : str
        Was measured.
    before, now : float
        Each as a share of the peak of its own measurement; of memory, of what must be held.
    ratio : float
        Of these two.
    verdict : str
        "fell" or "rose" where the ranges of the samples do not even touch and it is more than measurements of the same
        code differ by, else empty; of memory "grew" or "shrank".
    """

    what: str
    before: float
    now: float
    ratio: float
    verdict: str

    @property
    def is_worse(self) -> bool:
        """Whether it is slower, or holds more."""
        return self.verdict in ("fell", "grew")


@dataclass(frozen=True)
class Measured:
    """The engine's speed on this machine.

    Attributes
    ----------
    threads : int
        Used at once.
    peak_multiply_adds_per_second : float
        Of matrix products, the median of all peaks measured.
    peak_range : tuple of float
        The least and the greatest of them.
    figures : tuple of Figure
        Each as a ratio to the peaks beside it.
    memory : dict
        Network → what training it holds; None where it could not be measured.
    epochs : tuple of EpochFigure
        Of starting networks, as a user trains them.
    against : tuple of Change
        What earlier figures they were compared with say of each; empty where they were not.
    """

    threads: int
    peak_multiply_adds_per_second: float
    peak_range: tuple[float, float]
    figures: tuple[Figure, ...]
    memory: dict[str, Held | None]
    epochs: tuple[EpochFigure, ...]
    against: tuple[Change, ...] = ()
