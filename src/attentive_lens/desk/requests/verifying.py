"""Requests that check a run's model, and that keep a temperature in it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

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
    kept : bool
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
    kept: bool
    accuracy: float
    loss: float
    kept_accuracy: float | None
    kept_loss: float | None
    differ: int
    most: float


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


@dataclass(frozen=True)
class Calibrate(Request[Calibrated]):
    """Keep the temperature that fits the validation images in a run's best model, or take it out again."""

    result: ClassVar[type[object]] = Calibrated
    task: ClassVar[str] = "verifying.calibrate"
    workspace: str
    run: int
    undo: bool = False
