"""Mistakes that rest on what is not the object: all else is covered, and objects swapped, before that is told."""

from __future__ import annotations

from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job
from attentive_lens.explaining.causes.base import FEWEST, Answered, CauseFound, Evidence, Finder, mistakes_in_words
from attentive_lens.explaining.objects import most_images, try_objects
from attentive_lens.explaining.trials import MENDS

TRIED = 256
"""Mistakes, and right answers, that are looked at."""


class Objects(Finder):
    """The rest is told as the cause only where covering it mends mistakes, and spoils far fewer right answers.

    Only of images whose object is outlined. Right answers stand in the trial too: objects are put into each other's
    rests, and what every image gets without an object is not taken for what the rest says.
    """

    compares: ClassVar[bool] = False

    def find(self, evidence: Evidence) -> Job[CauseFound | None]:
        """The mistakes with outlines that rest on everything else, if enough do."""
        wrong, right = evidence.mistakes, evidence.right
        tried, controls = _outlined(evidence, wrong), _outlined(evidence, right)
        if len(tried) < FEWEST or len(controls) < FEWEST:
            return None
        pixels = np.concatenate([evidence.images(wrong, tried), evidence.images(right, controls)])
        rows = np.concatenate([wrong.rows[tried], right.rows[controls]]).tolist()
        covered = np.stack([evidence.covered[row] for row in rows])
        predicted = np.concatenate([wrong.predicted[tried], right.predicted[controls]])
        true = np.concatenate([wrong.true[tried], right.true[controls]])
        trial = yield from try_objects(evidence.predictor, pixels, covered, predicted, true)
        on_rest = trial.on_rest(predicted)
        own = on_rest[: len(tried)]
        if own.sum() < FEWEST:
            return None
        mended = float((trial.alone[: len(tried)][own] == wrong.true[tried[own]]).mean())
        held = ~on_rest[len(tried) :]  # what is right because of the rest must be spoilt without it
        broken = float((trial.alone[len(tried) :] != right.true[controls])[held].mean()) if held.any() else 1.0
        if mended - broken < MENDS:
            return None
        members = tuple(int(k) for k in tried[own])
        by_reason = int((~held).sum())
        why = (
            f"{mistakes_in_words(len(members))} rest on what is not the object: they are said without it too, and of"
            f" other objects in its place; covering all but the object mends {mended:.0%} of them and spoils"
            f" {broken:.1%} of the right answers, of which {by_reason} of {len(controls)} are right for that reason"
        )
        remedy = "Train on crops to the object, or on images in which the same stands about all classes"
        figures = {"mended": mended, "broken": broken, "right for this reason": by_reason / len(controls)}
        plan = evidence.plan.changed({"preprocessing.crop_to": "object"})
        return CauseFound("object", "rest on what is not the object", members, why, remedy, figures, plan)


def _outlined(evidence: Evidence, of: Answered) -> NDArray[np.int64]:
    """Places of some of the images whose object is known, spread evenly."""
    places = np.array([k for k, row in enumerate(of.rows.tolist()) if row in evidence.covered], np.int64)
    most = min(TRIED, most_images(evidence.images(of, places[:1])) // 2) if len(places) else 1
    return places[:: max(1, -(-len(places) // max(1, most)))]
