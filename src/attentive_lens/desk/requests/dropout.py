"""The request for dropout at work on one image."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.subjects import Subject


@dataclass(frozen=True)
class DropoutSeen:
    """What M draws of the masks did to one image's answers.

    Attributes
    ----------
    masks : dict
        Dropout layer → M×(shape of its output) uint8, 1 where a value stayed.
    classes : tuple of str
        The model's.
    answers : ndarray, M×K float32
        With each draw.
    without : ndarray, K float32
        Without dropout, as the model answers.
    """

    masks: dict[str, NDArray[np.uint8]]
    classes: tuple[str, ...]
    answers: NDArray[np.float32]
    without: NDArray[np.float32]


@dataclass(frozen=True)
class SeeDropout(Request[DropoutSeen]):
    """Draw the masks of every dropout layer several times for one image."""

    result: ClassVar[type[object]] = DropoutSeen
    task: ClassVar[str] = "dropout.see_dropout"
    subject: Subject
    draws: int = 32
