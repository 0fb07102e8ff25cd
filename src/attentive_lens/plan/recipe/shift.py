"""Settings of the step «shift»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Shift(RecipeStep):
    """Shifts the image along rows and columns; the border repeats."""

    title: ClassVar[str] = "recipe.shift"
    kind: ClassVar[str] = "shift"
    idea: ClassVar[str] = "Shifts the image along rows and columns; the border repeats."

    between: tuple[float, float] = spec(
        (-0.06, 0.06), label="by", unit="of the side", low=-0.5, high=0.5, meaning="Distance, drawn evenly."
    )
