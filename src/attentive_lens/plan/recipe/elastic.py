"""Settings of the step «elastic warp»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Elastic(RecipeStep):
    """Pulls the image about like rubber."""

    title: ClassVar[str] = "recipe.elastic warp"
    kind: ClassVar[str] = "elastic warp"
    idea: ClassVar[str] = "Pulls the image about like rubber."

    between: tuple[float, float] = spec(
        (0.0, 2.0),
        label="by",
        unit="pixels",
        low=0.0,
        high=20.0,
        meaning="Deviation of the pull, drawn evenly.",
    )
