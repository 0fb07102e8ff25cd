"""Layers of a trained network that a new one is built on."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import Value, spec


@dataclass(frozen=True)
class Base(Value):
    """Layers taken from an earlier run."""

    title: ClassVar[str] = "base"

    run: int = spec(meaning="Number of the run the layers come from.", label="from run", low=1)
    until: str = spec(meaning="Name of the last layer taken over.", label="up to")
    take_preprocessing: bool = spec(
        False,
        label="take over its preprocessing",
        meaning="Whether the run's preprocessing stands in place of the plan's; if not, the two must be the same.",
    )
    frozen: bool = spec(True, label="frozen", meaning="Whether the layers taken over keep their weights.")
