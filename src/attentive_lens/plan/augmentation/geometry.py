"""Settings of the steps that move pixels."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.plan.augmentation.base import AugmentationStep


@dataclass(frozen=True)
class Flip(AugmentationStep):
    """Mirrors the image left to right, top to bottom, or either."""

    kind: ClassVar[str] = "flip"
    idea: ClassVar[str] = "Mirrors the image left to right, top to bottom, or either."
    caution: ClassVar[str] = "Would a mirrored image still have its label?"

    direction: str = spec(
        "either",
        label="direction",
        choices=("left-right", "top-bottom", "either"),
        meaning="Which way; only what leaves the label true.",
    )


@dataclass(frozen=True)
class Rotate(AugmentationStep):
    """Turns the image about its centre; the border repeats."""

    kind: ClassVar[str] = "rotate"
    idea: ClassVar[str] = "Turns the image about its centre; the border repeats."
    caution: ClassVar[str] = "Would a turned image still have its label?"

    range: tuple[float, float] = spec(
        (-30.0, 30.0),
        label="range",
        unit="degrees",
        low=-180.0,
        high=180.0,
        meaning="Angle, drawn evenly.",
        ends="Usual: 10 to 30 either way, 180 where up and down mean nothing. At 0 nothing turns; too far "
        "makes classes alike that differ by their direction.",
    )


@dataclass(frozen=True)
class Rotate90(AugmentationStep):
    """Turns the image by one, two or three quarters; by two where it is not square."""

    kind: ClassVar[str] = "rotate 90"
    idea: ClassVar[str] = "Turns the image by one, two or three quarters; by two where it is not square."
    caution: ClassVar[str] = "Would an image on its side or head still have its label?"


@dataclass(frozen=True)
class Translate(AugmentationStep):
    """Shifts the image along rows and columns; the border repeats."""

    kind: ClassVar[str] = "translate"
    idea: ClassVar[str] = "Shifts the image along rows and columns; the border repeats."

    range: tuple[float, float] = spec(
        (-0.06, 0.06),
        label="range",
        unit="of the side",
        low=-0.5,
        high=0.5,
        meaning="Distance, drawn evenly.",
        ends="Usual: up to 0.1. At 0 place can be learned by heart; towards 0.5 half of the thing leaves the picture.",
    )


@dataclass(frozen=True)
class Scale(AugmentationStep):
    """Makes what is seen larger or smaller about the centre; the border repeats."""

    kind: ClassVar[str] = "scale"
    idea: ClassVar[str] = "Makes what is seen larger or smaller about the centre; the border repeats."

    range: tuple[float, float] = spec(
        (0.85, 1.15),
        label="times",
        low=0.2,
        high=5.0,
        meaning="Factor on lengths, drawn evenly.",
        ends="Usual: 0.8 to 1.25. At 1 size can be learned by heart; far from it sizes that mean something are "
        "lost, and things outgrow the picture.",
    )


@dataclass(frozen=True)
class Shear(AugmentationStep):
    """Slants the image sideways; the border repeats."""

    kind: ClassVar[str] = "shear"
    idea: ClassVar[str] = "Slants the image sideways; the border repeats."

    range: tuple[float, float] = spec(
        (-12.0, 12.0),
        label="range",
        unit="degrees",
        low=-60.0,
        high=60.0,
        meaning="Angle, drawn evenly.",
        ends="Usual: up to 15 either way. At 0 nothing leans; beyond 30 outlines are distorted that tell "
        "classes apart.",
    )


@dataclass(frozen=True)
class Perspective(AugmentationStep):
    """Tilts the image away from the viewer, about both axes."""

    kind: ClassVar[str] = "perspective"
    idea: ClassVar[str] = "Tilts the image away from the viewer, about both axes."

    range: tuple[float, float] = spec(
        (-0.15, 0.15),
        label="range",
        unit="of the distance",
        low=-0.6,
        high=0.6,
        meaning="How much nearer an edge is, for each axis.",
        ends="Usual: up to 0.2. At 0 the view stays; beyond 0.4 shapes are no longer what a camera sees.",
    )


@dataclass(frozen=True)
class Crop(AugmentationStep):
    """Cuts a random part out and brings it back to the whole size."""

    kind: ClassVar[str] = "crop"
    idea: ClassVar[str] = "Cuts a random part out and brings it back to the whole size."
    caution: ClassVar[str] = "Would a part of the image still have its label?"

    range: tuple[float, float] = spec(
        (0.6, 1.0),
        label="area",
        unit="of the image",
        low=0.05,
        high=1.0,
        meaning="Area of the part, drawn evenly.",
        ends="Usual: from 0.6 to 1. At 1 all is seen; below 0.3 the thing itself is often not in what is left.",
    )
    aspect: tuple[float, float] = spec(
        (0.8, 1.25),
        label="width to height",
        low=0.25,
        high=4.0,
        meaning="Aspect of the part, drawn evenly.",
        ends="Usual: 0.75 to 1.33. At 1 proportions stay; far from it round things become long.",
    )


@dataclass(frozen=True)
class ElasticDeformation(AugmentationStep):
    """Pulls the image about like rubber."""

    kind: ClassVar[str] = "elastic deformation"
    idea: ClassVar[str] = "Pulls the image about like rubber."

    range: tuple[float, float] = spec(
        (0.0, 2.0),
        label="range",
        unit="pixels",
        low=0.0,
        high=20.0,
        meaning="Deviation of the pull, drawn evenly.",
        ends="Usual: up to 2 at 64 pixels. At 0 nothing is pulled; at a tenth of the side shapes are torn.",
    )
