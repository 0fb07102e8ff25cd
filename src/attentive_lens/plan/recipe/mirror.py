"""Settings of the step «mirror»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Mirror(RecipeStep):
    """Mirrors the image left to right, top to bottom, or either."""

    title: ClassVar[str] = "recipe.mirror"
    kind: ClassVar[str] = "mirror"
    idea: ClassVar[str] = "Mirrors the image left to right, top to bottom, or either."
    caution: ClassVar[str] = "Would a mirrored image still have its label?"

    direction: str = spec(
        "either",
        label="direction",
        choices=("left-right", "top-bottom", "either"),
        meaning="Which way; only what leaves the label true.",
    )
