"""Mistakes that nothing looked for explains: they lie in the things themselves."""

from __future__ import annotations

from typing import ClassVar

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.explaining.causes.base import CauseFound, Evidence, Finder, mistakes_in_words
from attentive_lens.explaining.causes.places import tried_on, where


class Others(Finder):
    """The groups of maps, for the mistakes that no other finder has; it is asked last."""

    compares: ClassVar[bool] = False

    def find(self, evidence: Evidence) -> Job[CauseFound | None]:
        """The largest group of maps."""
        yield Progress(0, 1, "naming what is left")
        group = max(evidence.groups, key=lambda group: len(group.members))
        members = tuple(group.members.tolist())
        looks, trial = "", None
        figures: dict[str, float] = {}
        if group.at_one_place:
            trial = tried_on(evidence, group)
            looks = (
                f"; their maps gather at one place, {where(group)}, but covering it mends {trial.mended:.0%} of them,"
                f" the mirrored place {trial.mended_elsewhere:.0%}: it is where the thing itself is"
            )
            figures = {"mended": trial.mended, "mended elsewhere": trial.mended_elsewhere, "broken": trial.broken}
        words = f"{mistakes_in_words(len(members))} on the things themselves: {evidence.pairs_in_words(members)}"
        true, predicted = evidence.confusions(members)[0][0]
        remedy = f"Add images that tell {true} from {predicted}, or train longer with a larger network"
        short = "rest on the things themselves"
        return CauseFound("other", short, members, words + looks, remedy, figures, None, group, trial)
