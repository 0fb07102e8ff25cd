"""Settings of the steps that cover a part of the image."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.plan.augmentation.base import AugmentationStep


@dataclass(frozen=True)
class Erasing(AugmentationStep):
    """Covers a random square with the mean colour."""

    kind: ClassVar[str] = "random erasing"
    idea: ClassVar[str] = "Covers a random square with the mean colour."
    caution: ClassVar[str] = "Would the image still have its label with its heart covered?"

    range: tuple[float, float] = spec(
        (0.1, 0.3),
        label="side",
        unit="of the image",
        low=0.0,
        high=1.0,
        meaning="Side of the square, drawn evenly.",
        ends="Usual: 0.1 to 0.3. Near 0 nothing is missing; from 0.5 on the thing is often gone while its label stays.",
    )


@dataclass(frozen=True)
class MaskPlace(AugmentationStep):
    """Covers the same square of every image with its mean colour, so that nothing there can be learned from."""

    kind: ClassVar[str] = "mask a place"
    idea: ClassVar[str] = "Covers one place of the image with the mean colour, so that a mark there teaches nothing."
    caution: ClassVar[str] = (
        "Does what makes the class ever stand at this place? Put it before steps that move the image: a flip carries a"
        " mark to where nothing is covered."
    )

    probability: float = spec(
        1.0,
        label="probability",
        low=0.0,
        high=1.0,
        meaning="Part of the images changed, 0 to 1.",
        ends="Usual: 1, so that the place never tells anything. Below that it still does now and then.",
    )
    row: float = spec(
        0.85,
        label="down",
        unit="of the side",
        low=0.0,
        high=1.0,
        meaning="Middle of the square.",
        ends="0 is the upper edge, 1 the lower.",
    )
    column: float = spec(
        0.15,
        label="across",
        unit="of the side",
        low=0.0,
        high=1.0,
        meaning="Middle of the square.",
        ends="0 is the left edge, 1 the right.",
    )
    side: float = spec(
        0.3,
        label="side",
        unit="of the side",
        low=0.0,
        high=1.0,
        meaning="Side of the square.",
        ends="Usual: just more than the mark. Too small leaves its rim to be seen; too large takes the thing away too.",
    )
