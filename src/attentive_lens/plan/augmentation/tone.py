"""Settings of the steps that change what pixels are."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.plan.augmentation.base import AugmentationStep


@dataclass(frozen=True)
class Brightness(AugmentationStep):
    """Makes the image lighter or darker by a factor."""

    kind: ClassVar[str] = "brightness"
    idea: ClassVar[str] = "Makes the image lighter or darker by a factor."

    range: tuple[float, float] = spec(
        (0.85, 1.15),
        label="times",
        low=0.0,
        high=4.0,
        meaning="Factor on every channel, drawn evenly.",
        ends="Usual: 0.8 to 1.25. At 1 light can be learned by heart; near 0 the image is black, beyond 2 "
        "mostly white.",
    )


@dataclass(frozen=True)
class Contrast(AugmentationStep):
    """Spreads or narrows the levels about their mean."""

    kind: ClassVar[str] = "contrast"
    idea: ClassVar[str] = "Spreads or narrows the levels about their mean."

    range: tuple[float, float] = spec(
        (0.8, 1.25),
        label="times",
        low=0.0,
        high=4.0,
        meaning="Factor on the distance from the mean, drawn evenly.",
        ends="Usual: 0.8 to 1.25. At 1 nothing changes; near 0 the image is one grey, beyond 2 levels are cut off.",
    )


@dataclass(frozen=True)
class Saturation(AugmentationStep):
    """Makes the colours stronger or paler."""

    kind: ClassVar[str] = "saturation"
    for_pictures: ClassVar[bool] = True
    idea: ClassVar[str] = "Makes the colours stronger or paler."
    caution: ClassVar[str] = "Does a class rest on its colour?"

    range: tuple[float, float] = spec(
        (0.7, 1.3),
        label="times",
        low=0.0,
        high=4.0,
        meaning="Factor on the distance from grey, drawn evenly.",
        ends="Usual: 0.7 to 1.3. At 0 it is grey, at 1 as it was; beyond 2 colours are cut off. Leave it out "
        "where colour tells classes apart.",
    )


@dataclass(frozen=True)
class Hue(AugmentationStep):
    """Turns the colours round the grey axis."""

    kind: ClassVar[str] = "hue"
    for_pictures: ClassVar[bool] = True
    idea: ClassVar[str] = "Turns the colours round the grey axis."
    caution: ClassVar[str] = "Does a class rest on its colour?"

    range: tuple[float, float] = spec(
        (-10.0, 10.0),
        label="range",
        unit="degrees",
        low=-180.0,
        high=180.0,
        meaning="Angle, drawn evenly.",
        ends="Usual: up to 10 either way. At 0 colours stay; at 180 red is cyan. Leave it out where colour "
        "tells classes apart.",
    )


@dataclass(frozen=True)
class ColourCast(AugmentationStep):
    """Makes red, green and blue stronger or weaker, each by itself."""

    kind: ClassVar[str] = "colour cast"
    for_pictures: ClassVar[bool] = True
    idea: ClassVar[str] = "Tints the image, as another lamp or another white balance does."
    caution: ClassVar[str] = "Does a class rest on its colour?"

    range: tuple[float, float] = spec(
        (0.9, 1.1),
        label="times",
        low=0.0,
        high=4.0,
        meaning="Factor on each of red, green and blue, drawn evenly for each, then brought to a product of 1.",
        ends="Usual: 0.9 to 1.1, as white balance differs. At 1 nothing changes; beyond 0.6 or 1.6 colours "
        "tell nothing.",
    )


@dataclass(frozen=True)
class Gamma(AugmentationStep):
    """Lightens or darkens the middle levels and leaves black and white."""

    kind: ClassVar[str] = "gamma"
    idea: ClassVar[str] = "Lightens or darkens the middle levels and leaves black and white."

    range: tuple[float, float] = spec(
        (0.8, 1.25),
        label="exponent",
        low=0.2,
        high=5.0,
        meaning="Exponent on levels 0 to 1, drawn evenly.",
        ends="Usual: 0.8 to 1.25. At 1 nothing changes; below 0.5 shadows, above 2 highlights are all that is "
        "left of the differences.",
    )


@dataclass(frozen=True)
class Blur(AugmentationStep):
    """Puts the image out of focus."""

    kind: ClassVar[str] = "blur"
    idea: ClassVar[str] = "Puts the image out of focus."

    range: tuple[float, float] = spec(
        (0.0, 1.2),
        label="range",
        unit="pixels",
        low=0.0,
        high=20.0,
        meaning="Deviation of the blur, drawn evenly.",
        ends="Usual: up to 1.2 at 64 pixels. At 0 nothing is lost; beyond 3 textures are gone, and classes "
        "known by them.",
    )


@dataclass(frozen=True)
class Sharpen(AugmentationStep):
    """Lifts fine detail."""

    kind: ClassVar[str] = "sharpen"
    idea: ClassVar[str] = "Lifts fine detail."

    range: tuple[float, float] = spec(
        (0.0, 1.0),
        label="range",
        low=0.0,
        high=5.0,
        meaning="Part of the fine detail added once more, drawn evenly.",
        ends="Usual: up to 1. At 0 nothing changes; beyond 2 edges get halos and noise is what stands out.",
    )


@dataclass(frozen=True)
class Noise(AugmentationStep):
    """Adds noise as a camera does in little light."""

    kind: ClassVar[str] = "noise"
    idea: ClassVar[str] = "Adds noise as a camera does in little light."

    range: tuple[float, float] = spec(
        (0.0, 0.04),
        label="range",
        unit="of white",
        low=0.0,
        high=0.5,
        meaning="Deviation of the noise, drawn evenly.",
        ends="Usual: up to 0.05. At 0 nothing changes; beyond 0.2 fine detail drowns.",
    )


@dataclass(frozen=True)
class Grey(AugmentationStep):
    """Takes the colour away."""

    kind: ClassVar[str] = "grey"
    for_pictures: ClassVar[bool] = True
    idea: ClassVar[str] = "Takes the colour away."
    caution: ClassVar[str] = "Does a class rest on its colour?"


@dataclass(frozen=True)
class Jpeg(AugmentationStep):
    """Packs the image as a JPEG file and unpacks it again."""

    kind: ClassVar[str] = "JPEG artefacts"
    for_pictures: ClassVar[bool] = True
    idea: ClassVar[str] = "Packs the image as a JPEG file and unpacks it again."

    range: tuple[float, float] = spec(
        (30.0, 90.0),
        label="quality",
        low=1.0,
        high=100.0,
        meaning="Quality of the packing, drawn evenly.",
        ends="Usual: 30 to 90. At 100 hardly anything is lost; below 10 blocks of 8 pixels show.",
    )
