"""Settings of the step «saturation»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Saturation(RecipeStep):
    """Makes the colours stronger or paler."""

    title: ClassVar[str] = "recipe.saturation"
    kind: ClassVar[str] = "saturation"
    idea: ClassVar[str] = "Makes the colours stronger or paler."
    caution: ClassVar[str] = "Does a class rest on its colour?"

    between: tuple[float, float] = spec(
        (0.7, 1.3), label="times", low=0.0, high=4.0, meaning="Factor on the distance from grey, drawn evenly."
    )
