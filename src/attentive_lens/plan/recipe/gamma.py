"""Settings of the step «gamma»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Gamma(RecipeStep):
    """Lightens or darkens the middle levels and leaves black and white."""

    title: ClassVar[str] = "recipe.gamma"
    kind: ClassVar[str] = "gamma"
    idea: ClassVar[str] = "Lightens or darkens the middle levels and leaves black and white."

    between: tuple[float, float] = spec(
        (0.8, 1.25), label="exponent", low=0.2, high=5.0, meaning="Exponent on levels 0 to 1, drawn evenly."
    )
