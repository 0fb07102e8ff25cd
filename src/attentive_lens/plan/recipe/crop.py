"""Settings of the step «crop»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Crop(RecipeStep):
    """Cuts a random part out and brings it back to the whole size."""

    title: ClassVar[str] = "recipe.crop"
    kind: ClassVar[str] = "crop"
    idea: ClassVar[str] = "Cuts a random part out and brings it back to the whole size."
    caution: ClassVar[str] = "Would a part of the image still have its label?"

    between: tuple[float, float] = spec(
        (0.6, 1.0), label="area", unit="of the image", low=0.05, high=1.0, meaning="Area of the part, drawn evenly."
    )
    aspect: tuple[float, float] = spec(
        (0.8, 1.25), label="width to height", low=0.25, high=4.0, meaning="Aspect of the part, drawn evenly."
    )
