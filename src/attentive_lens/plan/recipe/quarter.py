"""Settings of the step «quarter turn»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep


@dataclass(frozen=True)
class Quarter(RecipeStep):
    """Turns the image by one, two or three quarters."""

    title: ClassVar[str] = "recipe.quarter turn"
    kind: ClassVar[str] = "quarter turn"
    idea: ClassVar[str] = "Turns the image by one, two or three quarters."
    caution: ClassVar[str] = "Would an image on its side or head still have its label?"
