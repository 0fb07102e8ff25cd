"""Settings of the step «perspective»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Perspective(RecipeStep):
    """Tilts the image away from the viewer, about both axes."""

    title: ClassVar[str] = "recipe.perspective"
    kind: ClassVar[str] = "perspective"
    idea: ClassVar[str] = "Tilts the image away from the viewer, about both axes."

    between: tuple[float, float] = spec(
        (-0.15, 0.15),
        label="by",
        unit="of the distance",
        low=-0.6,
        high=0.6,
        meaning="How much nearer an edge is, for each axis.",
    )
