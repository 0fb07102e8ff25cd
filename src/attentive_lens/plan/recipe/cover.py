"""Settings of the step «covered place»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Cover(RecipeStep):
    """Covers the same square of every image with its mean colour, so that nothing there can be learned from."""

    title: ClassVar[str] = "recipe.covered place"
    kind: ClassVar[str] = "covered place"
    idea: ClassVar[str] = "Covers one place of the image with the mean colour, so that a mark there teaches nothing."
    caution: ClassVar[str] = "Does what makes the class ever stand at this place?"

    chance: float = spec(1.0, label="how often", low=0.0, high=1.0, meaning="Part of the images changed, 0 to 1.")
    row: float = spec(0.85, label="down", unit="of the side", low=0.0, high=1.0, meaning="Middle of the square.")
    column: float = spec(0.15, label="across", unit="of the side", low=0.0, high=1.0, meaning="Middle of the square.")
    side: float = spec(0.3, label="side", unit="of the side", low=0.0, high=1.0, meaning="Side of the square.")
