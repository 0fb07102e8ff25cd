"""Settings of the step «shear»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Shear(RecipeStep):
    """Slants the image sideways; the border repeats."""

    title: ClassVar[str] = "recipe.shear"
    kind: ClassVar[str] = "shear"
    idea: ClassVar[str] = "Slants the image sideways; the border repeats."

    between: tuple[float, float] = spec(
        (-12.0, 12.0), label="by", unit="degrees", low=-60.0, high=60.0, meaning="Angle, drawn evenly."
    )
