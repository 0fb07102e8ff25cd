"""The augmentation recipe: the changes made to training images, and how strong they are."""

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.recipe.blur import Blur
from attentive_lens.plan.recipe.brightness import Brightness
from attentive_lens.plan.recipe.contrast import Contrast
from attentive_lens.plan.recipe.cover import Cover
from attentive_lens.plan.recipe.crop import Crop
from attentive_lens.plan.recipe.cut_out import CutOut
from attentive_lens.plan.recipe.elastic import Elastic
from attentive_lens.plan.recipe.gamma import Gamma
from attentive_lens.plan.recipe.grey import Grey
from attentive_lens.plan.recipe.hue import Hue
from attentive_lens.plan.recipe.jpeg import Jpeg
from attentive_lens.plan.recipe.mirror import Mirror
from attentive_lens.plan.recipe.mix import Mix
from attentive_lens.plan.recipe.noise import Noise
from attentive_lens.plan.recipe.paste import Paste
from attentive_lens.plan.recipe.perspective import Perspective
from attentive_lens.plan.recipe.quarter import Quarter
from attentive_lens.plan.recipe.saturation import Saturation
from attentive_lens.plan.recipe.scale import Scale
from attentive_lens.plan.recipe.sharpen import Sharpen
from attentive_lens.plan.recipe.shear import Shear
from attentive_lens.plan.recipe.shift import Shift
from attentive_lens.plan.recipe.turn import Turn

STEPS: dict[str, type[RecipeStep]] = {
    step.kind: step
    for step in (
        Mirror,
        Turn,
        Quarter,
        Shift,
        Scale,
        Shear,
        Perspective,
        Crop,
        Elastic,
        Brightness,
        Contrast,
        Saturation,
        Hue,
        Gamma,
        Blur,
        Sharpen,
        Noise,
        CutOut,
        Cover,
        Grey,
        Jpeg,
        Mix,
        Paste,
    )
}
"""Every step by its word: where pixels are first, then what they are, then with what they are mixed."""

DEFAULT_RECIPE: tuple[RecipeStep, ...] = (Mirror(), Turn(), Shift(), Brightness())

__all__ = [
    "DEFAULT_RECIPE",
    "STEPS",
    "Blur",
    "Brightness",
    "Contrast",
    "Cover",
    "Crop",
    "CutOut",
    "Elastic",
    "Gamma",
    "Grey",
    "Hue",
    "Jpeg",
    "Mirror",
    "Mix",
    "Noise",
    "Paste",
    "Perspective",
    "Quarter",
    "RecipeStep",
    "Saturation",
    "Scale",
    "Sharpen",
    "Shear",
    "Shift",
    "Turn",
]
