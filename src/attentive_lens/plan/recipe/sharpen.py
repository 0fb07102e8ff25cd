"""Settings of the step «sharpen»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Sharpen(RecipeStep):
    """Lifts fine detail."""

    title: ClassVar[str] = "recipe.sharpen"
    kind: ClassVar[str] = "sharpen"
    idea: ClassVar[str] = "Lifts fine detail."

    between: tuple[float, float] = spec(
        (0.0, 1.0), label="by", low=0.0, high=5.0, meaning="Part of the fine detail added once more, drawn evenly."
    )
