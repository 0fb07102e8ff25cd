"""Settings of the step «pasted patch»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Paste(RecipeStep):
    """Pastes a square of another image of the batch into this one; labels are mixed by area (after Yun 2019)."""

    title: ClassVar[str] = "recipe.pasted patch"
    last: ClassVar[bool] = True
    kind: ClassVar[str] = "pasted patch"
    idea: ClassVar[str] = "Pastes a square of another training image into this one, and mixes the labels by area."
    caution: ClassVar[str] = "Does the square hold something of the other image’s class wherever it falls?"

    between: tuple[float, float] = spec(
        (0.1, 0.4), label="area", unit="of the image", low=0.0, high=0.5, meaning="Area of the square, drawn evenly."
    )
