"""Mistakes that rest on one place of the image, as on a mark: the place is covered before it is told."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.explaining.causes.base import FEWEST, CauseFound, Evidence, Finder, mistakes_in_words
from attentive_lens.explaining.causes.grouping import Group
from attentive_lens.explaining.trials import CoverTrial, cover_tried
from attentive_lens.plan.augmentation import MaskPlace

TRIED, CONTROLS = 256, 128
"""Mistakes of a group, and right answers, in which its place is covered to see what becomes of them."""


class Places(Finder):
    """A place is told as the cause only where covering it mends the mistakes, and the mirrored place does not."""

    compares: ClassVar[bool] = False

    def find(self, evidence: Evidence) -> Job[CauseFound | None]:
        """The largest group of maps that gather at one place aside and turn once it is covered."""
        for number, group in enumerate(evidence.groups):
            yield Progress(number, len(evidence.groups), "covering what mistakes rest on")
            if group.at_one_place and len(group.members) >= FEWEST:
                trial = tried_on(evidence, group)
                if trial.causes:
                    return _in_words(evidence, group, trial)
        return None


def tried_on(evidence: Evidence, group: Group) -> CoverTrial:
    """What comes of covering a group's place in its mistakes, and in right answers."""
    wrong, right = evidence.mistakes, evidence.right
    members = group.members[:TRIED]
    controls = np.arange(0, len(right), max(1, len(right) // CONTROLS))
    spot = (group.row, group.column, MaskPlace().side)
    mistakes, controlled = evidence.images(wrong, members), evidence.images(right, controls)
    return cover_tried(evidence.predictor, mistakes, wrong.true[members], controlled, right.true[controls], spot)


def where(group: Group) -> str:
    """«83% down and 17% across»."""
    return f"{group.row:.0%} down and {group.column:.0%} across"


def _in_words(evidence: Evidence, group: Group, trial: CoverTrial) -> CauseFound:
    members = tuple(group.members.tolist())
    predicted = evidence.mistakes.predicted[group.members]
    common = int(np.bincount(predicted).argmax())
    step = MaskPlace(row=round(group.row, 3), column=round(group.column, 3))
    others = tuple(other for other in evidence.plan.augmentation if other.kind != step.kind)
    why = (
        f"{mistakes_in_words(len(members))} rest on one place, {where(group)},"
        f" {(predicted == common).mean():.0%} of them said to be {evidence.classes[common]}: covering it mends"
        f" {trial.mended:.0%} of them, the mirrored place {trial.mended_elsewhere:.0%}, and spoils {trial.broken:.0%}"
        " of the right answers"
    )
    remedy = "Mask that place in training images and train again"
    figures = {"mended": trial.mended, "mended elsewhere": trial.mended_elsewhere, "broken": trial.broken}
    plan = evidence.plan.with_augmentation((step, *others))  # first: flips and turns would carry the mark away
    return CauseFound("place", "rest on one place", members, why, remedy, figures, plan, group, trial)
