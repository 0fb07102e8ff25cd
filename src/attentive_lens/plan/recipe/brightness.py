"""Settings of the step «brightness»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Brightness(RecipeStep):
    """Makes the image lighter or darker by a factor."""

    title: ClassVar[str] = "recipe.brightness"
    kind: ClassVar[str] = "brightness"
    idea: ClassVar[str] = "Makes the image lighter or darker by a factor."

    between: tuple[float, float] = spec(
        (0.85, 1.15), label="times", low=0.0, high=4.0, meaning="Factor on every channel, drawn evenly."
    )
