"""Settings of the step «cut-out patch»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class CutOut(RecipeStep):
    """Covers a random square with the mean colour."""

    title: ClassVar[str] = "recipe.cut-out patch"
    kind: ClassVar[str] = "cut-out patch"
    idea: ClassVar[str] = "Covers a random square with the mean colour."
    caution: ClassVar[str] = "Would the image still have its label with its heart covered?"

    between: tuple[float, float] = spec(
        (0.1, 0.3), label="side", unit="of the image", low=0.0, high=1.0, meaning="Side of the square, drawn evenly."
    )
