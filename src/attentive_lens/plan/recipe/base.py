"""What every step of a recipe has."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.values import Value, spec


@dataclass(frozen=True)
class RecipeStep(Value):
    """Base of the recipe's steps: a change made to a training image with some probability.

    To add one: one file here with its settings, one of the same name in ``images/augmentation`` with its
    arithmetic, and one line in each room's table.
    """

    kind: ClassVar[str] = ""
    idea: ClassVar[str] = ""
    caution: ClassVar[str] = ""
    """What to ask oneself where the change may change the meaning."""
    last: ClassVar[bool] = False
    """Whether it is done after all others, wherever it stands in the recipe."""

    chance: float = spec(0.5, label="how often", low=0.0, high=1.0, meaning="Part of the images changed, 0 to 1.")
