"""Settings of the step «scale»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Scale(RecipeStep):
    """Makes what is seen larger or smaller about the centre; the border repeats."""

    title: ClassVar[str] = "recipe.scale"
    kind: ClassVar[str] = "scale"
    idea: ClassVar[str] = "Makes what is seen larger or smaller about the centre; the border repeats."

    between: tuple[float, float] = spec(
        (0.85, 1.15), label="times", low=0.2, high=5.0, meaning="Factor on lengths, drawn evenly."
    )
