"""The request for what the mistakes of a run have in common."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.records import PlainTable
from attentive_lens.desk.requests.base import Request
from attentive_lens.explaining.methods import QUICK, MapSettings


@dataclass(frozen=True)
class CausePlace:
    """What the maps of a group of mistakes rest on.

    Attributes
    ----------
    row, column : float
        Where their typical map is strongest, parts of the side, 0–1.
    focus, gathered : float
        How much of the maps' strength, and how many of the maps' strongest places, lie about it, 0–1.
    typical : ndarray, 16×16 float32
        Mean map.
    """

    row: float
    column: float
    focus: float
    gathered: float
    typical: NDArray[np.float32]


@dataclass(frozen=True)
class Remedy:
    """Something that can be done about a cause.

    Attributes
    ----------
    kind : str
        "cover", "crop", "augment", "merge", "collect", "weight", "resolution" or "decide".
    words : str
        What it does, short.
    forecast : str
        What trials on the present model make of it, a sentence without a full stop.
    turned : float or None
        Part of the cause's mistakes that the trial turned right, 0–1; None where nothing was tried.
    plan : dict or None
        The plan to train, prepared.
    merges : tuple of str, or None
        The class whose images all get the label of another one, and that one.
    """

    kind: str
    words: str
    forecast: str
    turned: float | None = None
    plan: PlainTable | None = None
    merges: tuple[str, str] | None = None


@dataclass(frozen=True)
class Cause:
    """Mistakes that come from the same thing.

    Attributes
    ----------
    kind : str
        "place", "channel", "object", "quality", "origin", "label", "unlike training", "overlap", or "other" where
        nothing else explains them.
    short : str
        What they do, after their number: «rest on one place».
    images : tuple of int
        Numbers, the most typical first; every mistake stands in one cause.
    predicted : dict
        How many of them are said to be each class.
    why, remedy : str
        In words: what was tried or counted, with its figures; what to do.
    figures : dict
        The same figures by words.
    plan : dict or None
        The plan that should end it, if there is one.
    place : CausePlace or None
        For "place" and "other".
    share : float
        Part of all mistakes on the set, 0–1.
    remedies : tuple of Remedy
        What is at hand, what was tried first.
    """

    kind: str
    short: str
    images: tuple[int, ...]
    predicted: dict[str, int]
    why: str
    remedy: str
    figures: dict[str, float]
    plan: PlainTable | None
    place: CausePlace | None
    share: float
    remedies: tuple[Remedy, ...]


@dataclass(frozen=True)
class CausesFound:
    """What the mistakes of a run on a set have in common."""

    run: int
    on: str
    mistakes: int
    groups: tuple[Cause, ...]


@dataclass(frozen=True)
class Causes(Request[CausesFound]):
    """Groups of a run's mistakes on a set that come from the same thing."""

    result: ClassVar[type[object]] = CausesFound
    task: ClassVar[str] = "causes.causes"
    workspace: str
    run: int
    on: str = "validation"
    method: MapSettings = QUICK
