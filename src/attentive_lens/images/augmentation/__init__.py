"""The changes made to training images: the arithmetic of every augmentation step, and the augmentation as a whole."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.extensions import Parts, is_kind
from attentive_lens.core.random import random_generator
from attentive_lens.images.augmentation.base import Augmentation, Geometric, Lost, Pairing, Tonal
from attentive_lens.images.augmentation.blending import BlendChange, PatchBlendChange
from attentive_lens.images.augmentation.compiled import warp
from attentive_lens.images.augmentation.geometry import (
    CropChange,
    ElasticDeformationChange,
    FlipChange,
    PerspectiveChange,
    Rotate90Change,
    RotateChange,
    ScaleChange,
    ShearChange,
    TranslateChange,
)
from attentive_lens.images.augmentation.occlusion import ErasingChange, MaskPlaceChange
from attentive_lens.images.augmentation.tone import (
    BlurChange,
    BrightnessChange,
    ColourCastChange,
    ContrastChange,
    GammaChange,
    GreyChange,
    HueChange,
    JpegChange,
    NoiseChange,
    SaturationChange,
    SharpenChange,
)
from attentive_lens.images.pixel_format import PixelArray, white_in
from attentive_lens.plan.augmentation import AugmentationStep

AUGMENTATIONS: Parts[Augmentation] = Parts(
    {
        "flip": FlipChange(),
        "rotate": RotateChange(),
        "rotate 90": Rotate90Change(),
        "translate": TranslateChange(),
        "scale": ScaleChange(),
        "shear": ShearChange(),
        "perspective": PerspectiveChange(),
        "crop": CropChange(),
        "elastic deformation": ElasticDeformationChange(),
        "brightness": BrightnessChange(),
        "contrast": ContrastChange(),
        "saturation": SaturationChange(),
        "hue": HueChange(),
        "colour cast": ColourCastChange(),
        "gamma": GammaChange(),
        "blur": BlurChange(),
        "sharpen": SharpenChange(),
        "noise": NoiseChange(),
        "random erasing": ErasingChange(),
        "mask a place": MaskPlaceChange(),
        "grey": GreyChange(),
        "JPEG artefacts": JpegChange(),
        "blend": BlendChange(),
        "patch blend": PatchBlendChange(),
    },
    "images.augmentation",
    Lost,
    lambda thing: thing() if is_kind(thing, Augmentation) else None,
)


@dataclass(frozen=True)
class Variants:
    """What an augmentation made of a batch, or of some of its rows.

    Attributes
    ----------
    images : ndarray, N×H×W×C float32
        In 0–1, before the levels are applied.
    partners : ndarray, N int64
        Which image of the batch each was mixed with; itself where it was not.
    shares : ndarray, N float32
        How much of the label is the partner's, 0 to 0.5.
    """

    images: NDArray[np.float32]
    partners: NDArray[np.int64]
    shares: NDArray[np.float32]


def augment(
    images: PixelArray,
    numbers: Sequence[int],
    augmentation: Sequence[AugmentationStep],
    seed: int,
    epoch: int,
    rows: slice = slice(None),
) -> Variants:
    """Fresh variants of training images.

    Every image's draw is a function of (seed, epoch, its number), whatever else is in the batch; only whom it is
    mixed with is chosen among the batch. Geometric steps that follow each other are composed and the image is
    resampled once. Mixing comes after all other steps, with the partner as it then is, and at most once an image.

    Parameters
    ----------
    images : ndarray, N×H×W×C uint8 or float32
        At the input size.
    numbers : sequence of int
        Each image's number in the catalogue.
    augmentation : sequence of AugmentationStep
        Steps in order.
    seed, epoch : int
        Master seed, and epoch from 0.
    rows : slice
        Of the batch that are wanted: no others are made, but for their partners.
    """
    alone = [step for step in augmentation if not isinstance(AUGMENTATIONS[step.kind], Pairing)]
    paired = [step for step in augmentation if isinstance(AUGMENTATIONS[step.kind], Pairing)]
    wanted = range(len(images))[rows]
    mixed = {place: draw for place in wanted if (draw := _drawn(place, numbers, paired, seed, epoch)) is not None}
    first, last = wanted.start, wanted.stop
    out = _alone(images[first:last], numbers[first:last], alone, seed, epoch)
    partners, shares = np.array(wanted, np.int64), np.zeros(len(wanted), np.float32)
    if mixed:
        unmixed = dict(zip(wanted, out.copy(), strict=True))
        for other in sorted({draw.partner for draw in mixed.values()} - set(wanted)):
            unmixed[other] = _alone(images[other : other + 1], numbers[other : other + 1], alone, seed, epoch)[0]
        for place, draw in mixed.items():
            own = place - first
            partners[own] = draw.partner
            shares[own] = draw.change.apply(draw.step, draw.random, out[own], unmixed[draw.partner])
    return Variants(out, partners, shares)


def _alone(
    images: PixelArray, numbers: Sequence[int], steps: Sequence[AugmentationStep], seed: int, epoch: int
) -> NDArray[np.float32]:
    """What needs no other image."""
    out = np.empty(images.shape, np.float32)
    np.multiply(images, np.float32(1 / white_in(images)), out=out)
    for place, number in enumerate(numbers):
        random = random_generator(seed, "augmentation", epoch, int(number))
        waiting: NDArray[np.float64] | None = None
        for step in steps:
            if random.random() >= step.probability:
                continue
            change = AUGMENTATIONS[step.kind]
            if isinstance(change, Geometric):
                matrix = change.matrix(step, random, images.shape[1:3])
                waiting = matrix if waiting is None else waiting @ matrix
            elif isinstance(change, Tonal):
                if waiting is not None:
                    out[place] = _warped(out[place], waiting)
                    waiting = None
                change.apply(step, random, out[place])
        if waiting is not None:
            out[place] = _warped(out[place], waiting)
    return out


@dataclass(frozen=True)
class _Mixing:
    """How an image is mixed, and with which of the batch."""

    step: AugmentationStep
    change: Pairing
    partner: int
    random: np.random.Generator


def _drawn(
    place: int, numbers: Sequence[int], steps: Sequence[AugmentationStep], seed: int, epoch: int
) -> _Mixing | None:
    count = len(numbers)
    if not steps or count < 2:
        return None
    random = random_generator(seed, "mixing", epoch, int(numbers[place]))
    for step in steps:
        change = AUGMENTATIONS[step.kind]
        if random.random() < step.probability and isinstance(change, Pairing):
            return _Mixing(step, change, int((place + 1 + random.integers(count - 1)) % count), random)
    return None


def _warped(image: NDArray[np.float32], matrix: NDArray[np.float64]) -> NDArray[np.float32]:
    out = np.empty_like(image)
    warp(image, matrix.astype(np.float32), out)
    return out


__all__ = ["AUGMENTATIONS", "Variants", "augment"]
