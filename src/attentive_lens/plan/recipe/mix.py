"""Settings of the step «linear mix»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Mix(RecipeStep):
    """Lays another image of the batch over this one; the labels are mixed as the images are (after Zhang 2018)."""

    title: ClassVar[str] = "recipe.linear mix"
    last: ClassVar[bool] = True
    kind: ClassVar[str] = "linear mix"
    idea: ClassVar[str] = "Lays another training image over this one, and mixes their labels as much."
    caution: ClassVar[str] = "Saliency maps of a model taught with mixed images are spread wider."

    between: tuple[float, float] = spec(
        (0.1, 0.4), label="the other’s share", low=0.0, high=0.5, meaning="Share of the other image, drawn evenly."
    )
