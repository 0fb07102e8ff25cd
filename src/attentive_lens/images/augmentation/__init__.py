"""The changes made to training images: the arithmetic of every recipe step, and the recipe as a whole."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.augmentation.base import Augmentation, Geometric, Pairing, Tonal
from attentive_lens.images.augmentation.blur import BlurChange
from attentive_lens.images.augmentation.brightness import BrightnessChange
from attentive_lens.images.augmentation.compiled import warp
from attentive_lens.images.augmentation.contrast import ContrastChange
from attentive_lens.images.augmentation.cover import CoverChange
from attentive_lens.images.augmentation.crop import CropChange
from attentive_lens.images.augmentation.cut_out import CutOutChange
from attentive_lens.images.augmentation.elastic import ElasticChange
from attentive_lens.images.augmentation.gamma import GammaChange
from attentive_lens.images.augmentation.grey import GreyChange
from attentive_lens.images.augmentation.hue import HueChange
from attentive_lens.images.augmentation.jpeg import JpegChange
from attentive_lens.images.augmentation.mirror import MirrorChange
from attentive_lens.images.augmentation.mix import MixChange
from attentive_lens.images.augmentation.noise import NoiseChange
from attentive_lens.images.augmentation.paste import PasteChange
from attentive_lens.images.augmentation.perspective import PerspectiveChange
from attentive_lens.images.augmentation.quarter import QuarterChange
from attentive_lens.images.augmentation.saturation import SaturationChange
from attentive_lens.images.augmentation.scale import ScaleChange
from attentive_lens.images.augmentation.sharpen import SharpenChange
from attentive_lens.images.augmentation.shear import ShearChange
from attentive_lens.images.augmentation.shift import ShiftChange
from attentive_lens.images.augmentation.turn import TurnChange
from attentive_lens.plan.chance import chance
from attentive_lens.plan.recipe import RecipeStep

AUGMENTATIONS: dict[str, Augmentation] = {
    "mirror": MirrorChange(),
    "turn": TurnChange(),
    "quarter turn": QuarterChange(),
    "shift": ShiftChange(),
    "scale": ScaleChange(),
    "shear": ShearChange(),
    "perspective": PerspectiveChange(),
    "crop": CropChange(),
    "elastic warp": ElasticChange(),
    "brightness": BrightnessChange(),
    "contrast": ContrastChange(),
    "saturation": SaturationChange(),
    "hue": HueChange(),
    "gamma": GammaChange(),
    "blur": BlurChange(),
    "sharpen": SharpenChange(),
    "noise": NoiseChange(),
    "cut-out patch": CutOutChange(),
    "covered place": CoverChange(),
    "grey": GreyChange(),
    "JPEG artefacts": JpegChange(),
    "linear mix": MixChange(),
    "pasted patch": PasteChange(),
}


@dataclass(frozen=True)
class Variants:
    """What a recipe made of a batch.

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
    images: NDArray[np.uint8], numbers: Sequence[int], recipe: Sequence[RecipeStep], seed: int, epoch: int
) -> Variants:
    """Fresh variants of training images.

    Every image's draw is a function of (seed, epoch, its number), whatever else is in the batch; only whom it is
    mixed with is chosen among the batch. Geometric steps that follow each other are composed and the image is
    resampled once. Mixing comes after all other steps, with the partner as it then is, and at most once an image.

    Parameters
    ----------
    images : ndarray, N×S×S×C uint8
        At the working size.
    numbers : sequence of int
        Each image's number in the catalogue.
    recipe : sequence of RecipeStep
        Steps in order.
    seed, epoch : int
        Master seed, and epoch from 0.

    """
    alone = [step for step in recipe if not isinstance(AUGMENTATIONS[step.kind], Pairing)]
    paired = [step for step in recipe if isinstance(AUGMENTATIONS[step.kind], Pairing)]
    out = np.empty(images.shape, np.float32)
    np.multiply(images, np.float32(1 / 255), out=out)
    for place, number in enumerate(numbers):
        random = chance(seed, "augmentation", epoch, int(number))
        waiting: NDArray[np.float64] | None = None
        for step in alone:
            if random.random() >= step.chance:
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
    images: NDArray[np.float32], numbers: Sequence[int], steps: Sequence[RecipeStep], seed: int, epoch: int
) -> Variants:
    count = len(images)
    partners, shares = np.arange(count), np.zeros(count, np.float32)
    if not steps or count < 2:
        return Variants(images, partners, shares)
    unmixed = images.copy()
    for place, number in enumerate(numbers):
        random = chance(seed, "mixing", epoch, int(number))
        for step in steps:
            change = AUGMENTATIONS[step.kind]
            if random.random() < step.chance and isinstance(change, Pairing):
                partners[place] = (place + 1 + random.integers(count - 1)) % count
                shares[place] = change.apply(step, random, images[place], unmixed[partners[place]])
                break
    return Variants(images, partners, shares)


def _warped(image: NDArray[np.float32], matrix: NDArray[np.float64]) -> NDArray[np.float32]:
    out = np.empty_like(image)
    warp(image, matrix.astype(np.float32), out)
    return out


__all__ = ["AUGMENTATIONS", "Variants", "augment"]
