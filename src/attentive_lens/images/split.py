"""Parting images into training, validation and test set."""

from __future__ import annotations

from collections.abc import Sequence

from attentive_lens.plan.chance import chance
from attentive_lens.plan.settings import Split

SETS = ("training", "validation", "test")


def part(labels: Sequence[int], given: Sequence[str | None], split: Split, seed: int) -> list[str]:
    """The set of every image.

    Images whose source names their set stay in it. If none is given for validation, the asked part of every
    class is drawn from its training images (stratified): rounded, but at least one as long as one is left
    to train on. The images must come in a fixed order, by file name; the draw is then a function of the seed.

    Parameters
    ----------
    labels : sequence of int
        Class numbers.
    given : sequence of str or None
        Set named by the source.
    split : Split
        Part to hold out.
    seed : int
        Master seed.

    Returns
    -------
    list of str
        One of `SETS` for each image.
    """
    sets = [name or "training" for name in given]
    if "validation" in sets or split.validation == 0:
        return sets
    for label in sorted(set(labels)):
        members = [i for i, (own, s) in enumerate(zip(labels, sets, strict=True)) if own == label and s == "training"]
        count = min(len(members) - 1, max(1, round(len(members) * split.validation)))
        order = chance(seed, "split", label).permutation(len(members))
        for place in order[: max(0, count)]:
            sets[members[place]] = "validation"
    return sets
