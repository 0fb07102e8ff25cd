"""Settings of the step «noise»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Noise(RecipeStep):
    """Adds noise as a camera does in little light."""

    title: ClassVar[str] = "recipe.noise"
    kind: ClassVar[str] = "noise"
    idea: ClassVar[str] = "Adds noise as a camera does in little light."

    between: tuple[float, float] = spec(
        (0.0, 0.04),
        label="by",
        unit="of white",
        low=0.0,
        high=0.5,
        meaning="Deviation of the noise, drawn evenly.",
    )
