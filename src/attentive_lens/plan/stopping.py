"""When a run ends before its epochs are over."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.extensions import take_kinds
from attentive_lens.core.values import Value, spec
from attentive_lens.plan.measures import MEASURES

NO_RULE = "none"


@dataclass(frozen=True)
class StopRule:
    """A rule that a package brings.

    Attributes
    ----------
    name, label : str
        Its key, and what it is called.
    meaning : str
        One sentence: when it ends a run, and what its value is.
    """

    name: str
    label: str
    meaning: str


STOP_RULES = {NO_RULE: StopRule(NO_RULE, "none", "No further rule.")}
"""By name; ours are settings of `Stopping` themselves."""
take_kinds(STOP_RULES, "plan.stopping", StopRule)


@dataclass(frozen=True)
class Stopping(Value):
    """Rules that end a run; each is off at 0. A loss that is no number ends every run."""

    title: ClassVar[str] = "stopping"

    patience: int = spec(
        0,
        label="early stopping (patience)",
        unit="epochs",
        low=0,
        high=100_000,
        meaning="Ends the run after so many epochs without a better value of its measure; 0: never.",
        ends="Usual: 5 to 20. Few end a run at a chance low; many end nothing.",
    )
    patience_measure: str = spec(
        "loss",
        label="early stopping by",
        choices=MEASURES,
        meaning="What must become better, on the validation set, for early stopping to wait on.",
    )
    least_gain: float = spec(
        0.0,
        label="least gain",
        low=0.0,
        high=1.0,
        meaning="By how much it must be better to count as better.",
        ends="Usual: 0 to 0.001. Large ones end runs that still improve.",
    )
    target: float = spec(
        0.0,
        label="target",
        low=0.0,
        high=1e6,
        meaning="Ends the run when its measure reaches this value, accuracies from 0 to 1; 0: never.",
        ends="Usual: 0. One that is soon reached ends the run before its best epoch.",
    )
    target_measure: str = spec(
        "accuracy", label="target measure", choices=MEASURES, meaning="What is to reach the target."
    )
    target_set: str = spec(
        "validation",
        label="target set",
        choices=("validation", "training"),
        meaning="On which images; of training images, as they are learned from, accuracy and loss are known.",
    )
    minutes: float = spec(
        0.0,
        label="time limit",
        unit="minutes",
        low=0.0,
        high=1e6,
        meaning="Ends the run after so many minutes of training, pauses not counted; 0: never.",
        ends="Usual: 0. A run that is cut off may not have come to the low part of its schedule.",
    )
    batches: int = spec(
        0,
        label="batch limit",
        unit="batches",
        low=0,
        high=10**9,
        meaning="Ends the run after so many batches, and the schedule with it; 0: never.",
        ends="Usual: 0. Few end the run within its first epoch.",
    )
    rule: str = spec(
        NO_RULE,
        label="further rule",
        choices=STOP_RULES,
        meaning="A rule that a package brings, asked after every epoch.",
    )
    rule_value: float = spec(
        0.0,
        label="its value",
        low=-1e9,
        high=1e9,
        meaning="What the further rule goes by.",
        ends="As the package says.",
    )

    @property
    def needs_validation(self) -> bool:
        """Whether a rule is on that follows the validation set."""
        return bool(self.patience) or (bool(self.target) and self.target_set == "validation")
