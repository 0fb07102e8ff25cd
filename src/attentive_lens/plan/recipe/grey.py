"""Settings of the step «grey»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep


@dataclass(frozen=True)
class Grey(RecipeStep):
    """Takes the colour away."""

    title: ClassVar[str] = "recipe.grey"
    kind: ClassVar[str] = "grey"
    idea: ClassVar[str] = "Takes the colour away."
    caution: ClassVar[str] = "Does a class rest on its colour?"
