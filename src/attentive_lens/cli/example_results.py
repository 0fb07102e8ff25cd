"""What the demo and its full example print with ``--json``."""

from __future__ import annotations

from dataclasses import dataclass

from attentive_lens.cli.explaining.explaining_results import Explained
from attentive_lens.cli.training.run_results import RunEnded


@dataclass(frozen=True)
class DemoMade:
    """The pollen station's workspace."""

    workspace: str
    images: int


@dataclass(frozen=True)
class SetFigures:
    """The same on a set of so many images."""

    images: int
    accuracy: float
    loss: float


@dataclass(frozen=True)
class ExampleDone:
    """The full example: the run (null if it was trained before), scores by set, mistakes explained."""

    train: RunEnded | None
    scores: dict[str, SetFigures]
    explained: tuple[Explained, ...]
    results: str | None
