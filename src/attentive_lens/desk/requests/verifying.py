"""Requests that check a run's model, and that keep a temperature in it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request


@dataclass(frozen=True)
class Verified:
    """Scores of a model read anew from its file, beside those that were kept.

    Attributes
    ----------
    on : str
        The set.
    images : int
        That were asked about.
    same : bool
        Whether every answer, every loss and every figure is the same to the last bit.
    compared : bool
        Whether there were scores to compare with; if not, these are kept now.
    accuracy, loss : float
        As they come out now.
    kept_accuracy, kept_loss : float or None
        As they were kept.
    differ : int
        Images whose answers differ.
    most : float
        By how much an answer differs at most.
    """

    run: int
    on: str
    images: int
    same: bool
    compared: bool
    accuracy: float
    loss: float
    kept_accuracy: float | None
    kept_loss: float | None
    differ: int
    most: float

    def words(self) -> Iterator[str]:
        """Whether the answers are the same."""
        figures = f"accuracy {self.accuracy!r}, loss {self.loss!r}"
        if not self.compared:
            yield f"There were no scores of {self.on} to compare with; now there are: {figures}."
        elif self.same:
            yield f"The model, read anew, gives the same {self.images} answers of {self.on} to the last bit: {figures}."
        else:
            yield (
                f"{self.differ} of {self.images} answers of {self.on} differ, by {self.most:.2g} at most: {figures},"
                f" before accuracy {self.kept_accuracy!r}, loss {self.kept_loss!r}."
            )
            yield "The file or the libraries of this machine changed."


@dataclass(frozen=True)
class Verify(Request[Verified]):
    """Read a run's best model anew, score it again, and compare with the scores that were kept, bit by bit."""

    result: ClassVar[type[object]] = Verified
    task: ClassVar[str] = "verifying.verify"
    workspace: str
    run: int
    on: str = "validation"


@dataclass(frozen=True)
class Calibrated:
    """What a temperature kept in a model makes of its answers on the validation images.

    Attributes
    ----------
    temperature : float
        By which its raw scores are divided now; 1 as it was trained.
    error, loss : float
        Expected calibration error and loss now.
    error_before, loss_before : float
        As it was trained.
    """

    run: int
    temperature: float
    error: float
    loss: float
    error_before: float
    loss_before: float

    def words(self) -> Iterator[str]:
        """What is kept, and what it makes of the answers."""
        if self.temperature == 1.0:
            yield f"Run {self.run} answers as it was trained: off by {self.error:.1%}, loss {self.loss:.3f}."
            return
        yield (
            f"Run {self.run} keeps a temperature of {self.temperature:.2f}: on validation off by {self.error:.1%},"
            f" before by {self.error_before:.1%}; loss {self.loss:.3f}, before {self.loss_before:.3f}."
            " It can be taken out again (undo)."
        )


@dataclass(frozen=True)
class Calibrate(Request[Calibrated]):
    """Keep the temperature in a run's best model by which its answers are as sure as they are right."""

    result: ClassVar[type[object]] = Calibrated
    task: ClassVar[str] = "verifying.calibrate"
    doing: ClassVar[str] = "fitting the temperature"
    workspace: str
    run: int
    undo: bool = spec(False, meaning="Take the temperature out again.")
