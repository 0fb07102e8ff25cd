"""Settings of the step «turn»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Turn(RecipeStep):
    """Turns the image about its centre; the border repeats."""

    title: ClassVar[str] = "recipe.turn"
    kind: ClassVar[str] = "turn"
    idea: ClassVar[str] = "Turns the image about its centre; the border repeats."
    caution: ClassVar[str] = "Would a turned image still have its label?"

    between: tuple[float, float] = spec(
        (-30.0, 30.0), label="by", unit="degrees", low=-180.0, high=180.0, meaning="Angle, drawn evenly."
    )
