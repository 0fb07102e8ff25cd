"""Settings of the steps that bring in another image of the batch, and its label."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.plan.augmentation.base import AugmentationStep


@dataclass(frozen=True)
class Blend(AugmentationStep):
    """Lays another image of the batch over this one; the labels are mixed as the images are (after Zhang 2018)."""

    last: ClassVar[bool] = True
    kind: ClassVar[str] = "blend"
    idea: ClassVar[str] = "Lays another training image over this one, and mixes their labels as much."
    caution: ClassVar[str] = "Saliency maps of a model taught with mixed images are spread wider."

    range: tuple[float, float] = spec(
        (0.1, 0.4),
        label="the other’s share",
        low=0.0,
        high=0.5,
        meaning="Share of the other image, drawn evenly.",
        ends="Usual: up to 0.4. Near 0 nothing is blended; at 0.5 neither image prevails, and small sets are "
        "learned slowly.",
    )


@dataclass(frozen=True)
class PatchBlend(AugmentationStep):
    """Pastes a square of another image of the batch into this one; labels are mixed by area (after Yun 2019)."""

    last: ClassVar[bool] = True
    kind: ClassVar[str] = "patch blend"
    idea: ClassVar[str] = "Pastes a square of another training image into this one, and mixes the labels by area."
    caution: ClassVar[str] = "Does the square hold something of the other image’s class wherever it falls?"

    range: tuple[float, float] = spec(
        (0.1, 0.4),
        label="area",
        unit="of the image",
        low=0.0,
        high=0.5,
        meaning="Area of the square, drawn evenly.",
        ends="Usual: 0.1 to 0.4. Small squares change little; at half the image the label is no longer what "
        "most of it shows.",
    )
