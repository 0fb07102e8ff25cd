"""Settings of the step «contrast»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Contrast(RecipeStep):
    """Spreads or narrows the levels about their mean."""

    title: ClassVar[str] = "recipe.contrast"
    kind: ClassVar[str] = "contrast"
    idea: ClassVar[str] = "Spreads or narrows the levels about their mean."

    between: tuple[float, float] = spec(
        (0.8, 1.25), label="times", low=0.0, high=4.0, meaning="Factor on the distance from the mean, drawn evenly."
    )
