"""Settings of the step «blur»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Blur(RecipeStep):
    """Puts the image out of focus."""

    title: ClassVar[str] = "recipe.blur"
    kind: ClassVar[str] = "blur"
    idea: ClassVar[str] = "Puts the image out of focus."

    between: tuple[float, float] = spec(
        (0.0, 1.2),
        label="by",
        unit="pixels",
        low=0.0,
        high=20.0,
        meaning="Deviation of the blur, drawn evenly.",
    )
