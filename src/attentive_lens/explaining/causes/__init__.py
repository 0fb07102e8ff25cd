"""What the mistakes of a run have in common, tried on the model or counted before it is told.

Each kind of cause is one file and one line here, in the order in which mistakes are given to them: what the model
itself confirms; then what may be labelled wrongly, comes from elsewhere or shows another kind of thing, for quality is
judged against what is usual in the class on the label; then classes that overlap.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from attentive_lens.core.jobs import Job
from attentive_lens.explaining.causes.base import Answered, CauseFound, Evidence, Finder
from attentive_lens.explaining.causes.channels import Channels
from attentive_lens.explaining.causes.labels import Labels
from attentive_lens.explaining.causes.objects import Objects
from attentive_lens.explaining.causes.origins import Origins
from attentive_lens.explaining.causes.others import Others
from attentive_lens.explaining.causes.overlap import Overlap
from attentive_lens.explaining.causes.places import Places
from attentive_lens.explaining.causes.quality import Quality
from attentive_lens.explaining.causes.unlike import Unlike

CAUSES: dict[str, Finder] = {
    "place": Places(),
    "channel": Channels(),
    "object": Objects(),
    "label": Labels(),
    "origin": Origins(),
    "unlike training": Unlike(),
    "quality": Quality(),
    "overlap": Overlap(),
    "other": Others(),
}


def find_causes(evidence: Evidence) -> Job[list[CauseFound]]:
    """Causes so that every mistake stands in one; each is looked for among the mistakes that those before it left."""
    causes: list[CauseFound] = []
    left = np.arange(len(evidence.mistakes))
    for finder in CAUSES.values():
        while len(left) and (len(evidence.training) or not finder.compares):
            cause = yield from finder.find(evidence.left(left))
            if cause is None:
                break
            members = left[list(cause.members)]
            causes.append(replace(cause, members=tuple(members.tolist())))
            left = np.setdiff1d(left, members)
    return causes


__all__ = ["CAUSES", "Answered", "CauseFound", "Evidence", "Finder", "find_causes"]
