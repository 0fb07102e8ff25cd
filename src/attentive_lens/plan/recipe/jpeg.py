"""Settings of the step «JPEG artefacts»."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.values import spec


@dataclass(frozen=True)
class Jpeg(RecipeStep):
    """Packs the image as a JPEG file and unpacks it again."""

    title: ClassVar[str] = "recipe.JPEG artefacts"
    kind: ClassVar[str] = "JPEG artefacts"
    idea: ClassVar[str] = "Packs the image as a JPEG file and unpacks it again."

    between: tuple[float, float] = spec(
        (30.0, 90.0), label="quality", low=1.0, high=100.0, meaning="Quality of the packing, drawn evenly."
    )
