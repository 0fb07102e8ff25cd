"""Augmentation: the changes made to training images, and how strong they are."""

from attentive_lens.core.extensions import take_kinds
from attentive_lens.plan.augmentation.base import AugmentationStep
from attentive_lens.plan.augmentation.blending import Blend, PatchBlend
from attentive_lens.plan.augmentation.geometry import (
    Crop,
    ElasticDeformation,
    Flip,
    Perspective,
    Rotate,
    Rotate90,
    Scale,
    Shear,
    Translate,
)
from attentive_lens.plan.augmentation.occlusion import Erasing, MaskPlace
from attentive_lens.plan.augmentation.tone import (
    Blur,
    Brightness,
    ColourCast,
    Contrast,
    Gamma,
    Grey,
    Hue,
    Jpeg,
    Noise,
    Saturation,
    Sharpen,
)

STEPS: dict[str, type[AugmentationStep]] = {
    step.kind: step
    for step in (
        Flip,
        Rotate,
        Rotate90,
        Translate,
        Scale,
        Shear,
        Perspective,
        Crop,
        ElasticDeformation,
        Brightness,
        Contrast,
        Saturation,
        Hue,
        ColourCast,
        Gamma,
        Blur,
        Sharpen,
        Noise,
        Erasing,
        MaskPlace,
        Grey,
        Jpeg,
        Blend,
        PatchBlend,
    )
}
"""Every step by its kind: where pixels are first, then what they are, then with what they are mixed."""
take_kinds(STEPS, "plan.augmentation", AugmentationStep)

DEFAULT_AUGMENTATION: tuple[AugmentationStep, ...] = (Flip(), Rotate(), Translate(), Brightness())

__all__ = [
    "DEFAULT_AUGMENTATION",
    "STEPS",
    "AugmentationStep",
    "Blend",
    "Blur",
    "Brightness",
    "ColourCast",
    "Contrast",
    "Crop",
    "ElasticDeformation",
    "Erasing",
    "Flip",
    "Gamma",
    "Grey",
    "Hue",
    "Jpeg",
    "MaskPlace",
    "Noise",
    "PatchBlend",
    "Perspective",
    "Rotate",
    "Rotate90",
    "Saturation",
    "Scale",
    "Sharpen",
    "Shear",
    "Translate",
]
