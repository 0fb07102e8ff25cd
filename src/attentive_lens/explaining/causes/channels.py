"""Mistakes that rest on one channel of the image: it is replaced by its mean before that is told."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

import numpy as np

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.explaining.causes.base import FEWEST, CauseFound, Evidence, Finder, mistakes_in_words
from attentive_lens.explaining.changes import flattened
from attentive_lens.explaining.trials import MENDS, predicted_of
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.plan.preprocessing import Preprocessing

TRIED, CONTROLS = 256, 256
"""Mistakes, and right answers, in which each channel is replaced to see what becomes of them."""


class Channels(Finder):
    """A channel is told as the cause only where nothing in it mends mistakes, and spoils far fewer right answers.

    Only of images whose channels have names of their own. That the right answers must stay keeps a network that gives
    one class to whatever it cannot see from looking mended: it spoils as many of the other class.
    """

    compares: ClassVar[bool] = False

    def find(self, evidence: Evidence) -> Job[CauseFound | None]:
        """The channel without which most mistakes are mended, if any is better without it."""
        names = evidence.plan.preprocessing.channel_names
        wrong, right = evidence.mistakes, evidence.right
        if len(names) < 2 or len(wrong) < FEWEST or len(right) < FEWEST:
            return None
        tried, controls = (
            np.arange(0, len(of), -(-len(of) // most)) for of, most in ((wrong, TRIED), (right, CONTROLS))
        )
        mistakes, answers = evidence.images(wrong, tried), evidence.images(right, controls)
        mended, broken = np.zeros((len(names), len(tried)), bool), np.zeros(len(names))
        for number in range(len(names)):
            yield Progress(number, len(names), "replacing channels by their means")
            mended[number] = predicted_of(evidence.predictor, _without(mistakes, number)) == wrong.true[tried]
            still = predicted_of(evidence.predictor, _without(answers, number)) == right.true[controls]
            broken[number] = 1 - still.mean()
        shares = mended.mean(axis=1)
        best = int((shares - broken).argmax())
        elsewhere = float(np.delete(shares, best).max())
        if shares[best] - max(broken[best], elsewhere) < MENDS or mended[best].sum() < FEWEST:
            return None
        members = tuple(tried[mended[best]].tolist())
        return _in_words(evidence, names, best, members, (float(shares[best]), elsewhere, float(broken[best])))


def _without(images: PixelArray, channel: int) -> PixelArray:
    return np.stack([flattened(image, channel + 1) for image in images])


def _in_words(
    evidence: Evidence, names: tuple[str, ...], best: int, members: tuple[int, ...], parts: tuple[float, float, float]
) -> CauseFound:
    mended, elsewhere, broken = parts
    why = (
        f"{mistakes_in_words(len(members))} rest on channel «{names[best]}»: replaced by its mean, {mended:.0%} of the"
        f" mistakes are mended, by any other channel's {elsewhere:.0%} at most, and {broken:.0%} of the right answers"
        f" are spoilt: {evidence.pairs_in_words(members)}"
    )
    own = evidence.plan.preprocessing
    left: Preprocessing = own.with_(channel_names=tuple(name for name in names if name != names[best]))
    remedy = f"Leave channel «{names[best]}» out and train again, or find out what is in it"
    figures = {"mended": mended, "mended elsewhere": elsewhere, "broken": broken}
    plan = replace(evidence.plan, preprocessing=left)
    return CauseFound("channel", f"rest on channel «{names[best]}»", members, why, remedy, figures, plan)
