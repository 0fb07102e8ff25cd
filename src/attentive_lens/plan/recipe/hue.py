"""Settings of the step «hue»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Hue(RecipeStep):
    """Turns the colours round the grey axis."""

    title: ClassVar[str] = "recipe.hue"
    kind: ClassVar[str] = "hue"
    idea: ClassVar[str] = "Turns the colours round the grey axis."
    caution: ClassVar[str] = "Does a class rest on its colour?"

    between: tuple[float, float] = spec(
        (-10.0, 10.0), label="by", unit="degrees", low=-180.0, high=180.0, meaning="Angle, drawn evenly."
    )
