"""The changes made to training images: the arithmetic of every augmentation step, and the augmentation as a whole."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.random import random_generator
from attentive_lens.images.augmentation.base import Augmentation, Geometric, Pairing, Tonal
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
    ContrastChange,
    GammaChange,
    GreyChange,
    HueChange,
    JpegChange,
    NoiseChange,
    SaturationChange,
    SharpenChange,
)
from attentive_lens.plan.augmentation import AugmentationStep

AUGMENTATIONS: dict[str, Augmentation] = {
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
}


@dataclass(frozen=True)
class Variants:
    """What a augmentation made of a batch.

    Attributes
    ----------
    images : ndarray, N×S×S×C float32
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
    images: NDArray[np.uint8], numbers: Sequence[int], augmentation: Sequence[AugmentationStep], seed: int, epoch: int
) -> Variants:
    """Fresh variants of training images.

    Every image's draw is a function of (seed, epoch, its number), whatever else is in the batch; only whom it is
    mixed with is chosen among the batch. Geometric steps that follow each other are composed and the image is
    resampled once. Mixing comes after all other steps, with the partner as it then is, and at most once an image.

    Parameters
    ----------
    images : ndarray, N×S×S×C uint8
        At the input size.
    numbers : sequence of int
        Each image's number in the catalogue.
    augmentation : sequence of AugmentationStep
        Steps in order.
    seed, epoch : int
        Master seed, and epoch from 0.

    """
    alone = [step for step in augmentation if not isinstance(AUGMENTATIONS[step.kind], Pairing)]
    paired = [step for step in augmentation if isinstance(AUGMENTATIONS[step.kind], Pairing)]
    out = np.empty(images.shape, np.float32)
    np.multiply(images, np.float32(1 / 255), out=out)
    for place, number in enumerate(numbers):
        random = random_generator(seed, "augmentation", epoch, int(number))
        waiting: NDArray[np.float64] | None = None
        for step in alone:
            if random.random() >= step.probability:
                continue
            change = AUGMENTATIONS[step.kind]
            if isinstance(change, Geometric):
                matrix = change.matrix(step, random, images.shape[1])
                waiting = matrix if waiting is None else waiting @ matrix
            elif isinstance(change, Tonal):
                if waiting is not None:
                    out[place] = _warped(out[place], waiting)
                    waiting = None
                change.apply(step, random, out[place])
        if waiting is not None:
            out[place] = _warped(out[place], waiting)
    return _mixed(out, numbers, paired, seed, epoch)


def _mixed(
    images: NDArray[np.float32], numbers: Sequence[int], steps: Sequence[AugmentationStep], seed: int, epoch: int
) -> Variants:
    count = len(images)
    partners, shares = np.arange(count), np.zeros(count, np.float32)
    if not steps or count < 2:
        return Variants(images, partners, shares)
    unmixed = images.copy()
    for place, number in enumerate(numbers):
        random = random_generator(seed, "mixing", epoch, int(number))
        for step in steps:
            change = AUGMENTATIONS[step.kind]
            if random.random() < step.probability and isinstance(change, Pairing):
                partners[place] = (place + 1 + random.integers(count - 1)) % count
                shares[place] = change.apply(step, random, images[place], unmixed[partners[place]])
                break
    return Variants(images, partners, shares)


def _warped(image: NDArray[np.float32], matrix: NDArray[np.float64]) -> NDArray[np.float32]:
    out = np.empty_like(image)
    warp(image, matrix.astype(np.float32), out)
    return out


__all__ = ["AUGMENTATIONS", "Variants", "augment"]
