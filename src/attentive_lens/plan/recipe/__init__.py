"""The augmentation recipe: the changes made to training images, and how strong they are."""

from attentive_lens.plan.recipe.base import RecipeStep
from attentive_lens.plan.recipe.brightness import Brightness
from attentive_lens.plan.recipe.mirror import Mirror
from attentive_lens.plan.recipe.shift import Shift
from attentive_lens.plan.recipe.turn import Turn

STEPS: dict[str, type[RecipeStep]] = {step.kind: step for step in (Mirror, Turn, Shift, Brightness)}

DEFAULT_RECIPE: tuple[RecipeStep, ...] = (Mirror(), Turn(), Shift(), Brightness())

__all__ = ["DEFAULT_RECIPE", "STEPS", "Brightness", "Mirror", "RecipeStep", "Shift", "Turn"]
