"""How images are put into sets."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import Value, spec
from attentive_lens.errors import BadValue


@dataclass(frozen=True)
class Split(Value):
    """How the images not already in a set are put into training, validation and test set."""

    title: ClassVar[str] = "split"

    validation_fraction: float = spec(
        0.2,
        label="validation fraction",
        low=0.0,
        high=0.9,
        meaning="Part of every class held out from training to evaluate on, 0 to 0.9.",
        ends="Usual: 0.1 to 0.3. Little: intervals are wide and the best epoch is chosen by chance; much: "
        "little is left to learn from.",
    )
    test_fraction: float = spec(
        0.0,
        label="test fraction",
        low=0.0,
        high=0.9,
        meaning="Part of every class kept for one last evaluation, where the source names no test set; 0 to 0.9.",
        ends="Usual: 0.1 to 0.2, or 0 while the first runs are tried. Little tells little; much takes from training.",
    )
    keep_together: str = spec(
        "copies",
        label="keep together",
        choices=("copies", "name pattern", "column", "none"),
        meaning="Groups of images that go into one set: copies noted when a fault was acted on, images whose names"
        " share a part, or of which a table says the same in a column (a patient, a device, a day).",
    )
    group_pattern: str = spec(
        "",
        label="group pattern",
        meaning="Regular expression; images for which it finds the same text in the name are one group.",
    )
    group_column: str = spec(
        "",
        label="group column",
        meaning="Column of a table taken in beside the images; those with the same word in it are one group.",
    )
    subset_fraction: float = spec(
        1.0,
        label="subset fraction",
        low=0.001,
        high=1.0,
        meaning="Part of every class's training images used, 0 to 1; a small one makes a first run quick.",
        ends="Usual: 1. A tenth makes a first run ten times as quick, and worse than all images would.",
    )
    left_out: tuple[str, ...] = spec(
        (),
        label="classes left out",
        meaning="Names of classes that the run does not learn: their images are in no set, and the output has no unit"
        " for them.",
    )
    folds: int = spec(
        0,
        label="folds",
        low=0,
        high=100,
        meaning="Equal parts that take turns as the validation set; 0 for one split.",
        ends="Usual: 5, for a cross-validation. More train longer and hold out fewer at a time.",
    )
    validation_fold: int = spec(
        1,
        label="validation fold",
        low=1,
        high=100,
        meaning="Which fold is the validation set, from 1.",
        ends="At most the number of folds.",
    )

    def __post_init__(self) -> None:
        """Settings that must fit each other."""
        super().__post_init__()
        if self.folds and self.validation_fold > self.folds:
            why = f"there is no fold {self.validation_fold} of {self.folds}"
            raise BadValue("split.validation_fold", why, "Choose a lower one")
        if self.validation_fraction + self.test_fraction > 0.95:
            raise BadValue("split", "validation and test leave nothing to train on", "Lower one of them")
        try:
            re.compile(self.group_pattern)
        except (re.error, OverflowError, RecursionError) as error:
            raise BadValue("split.group_pattern", f"it is no regular expression: {error}", "Mend it") from None
