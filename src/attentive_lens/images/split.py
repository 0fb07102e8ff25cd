"""Parting images into training, validation and test set."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.random import random_generator
from attentive_lens.plan.split import Split

SETS = ("training", "validation", "test")
LEFT_OUT = "left out"
"""What the small subset for a quick run does without."""
SUFFIX = r"(?:\.\w+)?$"
PATTERNS = (
    rf"^(.+)[-_ .]+[a-z]{{0,5}}\d+[-_ x]+[a-z]{{0,5}}\d+{SUFFIX}",
    rf"^(.+)[-_ .]+[a-z]{{0,5}}\d+{SUFFIX}",
    rf"^(.+?)\d+{SUFFIX}",
)
"""What is before two running numbers, one after a gap, one without: the first pattern that parts the names is taken."""
FEWEST_OF_GROUP = 3
"""Pictures of a group, usually, and groups of a class, on average, for a pattern to part them."""
COVERED = 0.5
"""Part of all names that a pattern must part."""


def part(
    labels: Sequence[int],
    named_sets: Sequence[str | None],
    split: Split,
    seed: int,
    groups: Mapping[int, int] | None = None,
) -> list[str]:
    """The set of every image.

    Images whose source or owner named their set stay in it. Of the others the asked parts of every class are held
    out (stratified): rounded, but at least one as long as one is left to train on. Every image has a lot of its own,
    a function of the seed and its number, so that leaving out one image or adding some does not deal all others anew.

    Parameters
    ----------
    labels : sequence of int
        Class numbers, in the order of the images' numbers.
    named_sets : sequence of str or None
        Set named by source or owner; one that is none of `SETS` ("excluded") is kept as it is.
    split : Split
        Parts to hold out.
    seed : int
        Master seed.
    groups : mapping
        Group by place of an image; the images of a group go into one set together. A group counts for the class most
        of its images have, so the parts come out only as near as its size allows.

    Returns
    -------
    list of str
        One of `SETS` for each image, `LEFT_OUT`, or what was given.
    """
    classes = np.asarray(labels, np.int64)
    sets = np.array([name or "training" for name in named_sets], object)
    ranks = random_generator(seed, "split").random(len(classes))
    free = np.array([name is None or name == "training" for name in named_sets], bool)
    bound, alone = _units(free, classes, ranks, groups or {})
    if split.test_fraction and "test" not in sets:
        _hold_out(sets, classes, bound, alone, split.test_fraction, "test")
    if split.folds > 1:
        _deal(sets, classes, bound, alone, split)
    elif split.validation_fraction and "validation" not in sets:
        _hold_out(sets, classes, bound, alone, split.validation_fraction, "validation")
    if split.subset_fraction < 1:
        _thin(sets, classes, ranks, split.subset_fraction)
    return [str(name) for name in sets.tolist()]


def groups_by_name(names: Sequence[str], pattern: str) -> dict[int, int]:
    """Places of the images whose names give the same text for a regular expression, numbered by that text.

    The text is the first bracket's, or all that the expression matches; names it does not match stand alone.
    """
    known: dict[str, int] = {}
    groups: dict[int, int] = {}
    expression = re.compile(pattern)
    for place, name in enumerate(names):
        match = expression.search(name)
        if match is not None:
            text = match.group(1) if expression.groups else match.group(0)
            groups[place] = known.setdefault(text or "", len(known))
    return groups


def name_pattern(names: Sequence[str], labels: NDArray[np.int64]) -> tuple[str, dict[int, int]]:
    """The first pattern that parts N names within classes, and the group of each place; empty if none does."""
    for pattern in PATTERNS if names else ():
        groups = groups_by_name(names, pattern)
        if len(groups) < COVERED * len(names):
            continue
        sizes = np.bincount(list(groups.values()))
        kinds = {(group, int(labels[place])) for place, group in groups.items()}
        classes = {label for _, label in kinds}
        if np.median(sizes) >= FEWEST_OF_GROUP and len(sizes) >= FEWEST_OF_GROUP * len(classes):
            return pattern, groups
    return "", {}


Groups = list[tuple[int, NDArray[np.int64]]]
"""What stays together: the class most have, and the places."""


def _units(
    free: NDArray[np.bool_], classes: NDArray[np.int64], ranks: NDArray[np.float64], groups: Mapping[int, int]
) -> tuple[Groups, NDArray[np.int64]]:
    """Groups, large ones first, and the places of all other images; both by lot."""
    together: dict[int, list[int]] = {}
    for place, group in groups.items():
        if free[place]:
            together.setdefault(group, []).append(place)
    bound = [np.array(places) for places in together.values() if len(places) > 1]
    alone = free.copy()
    for places in bound:
        alone[places] = False
    bound.sort(key=lambda places: (-len(places), float(ranks[places].min())))
    singles = np.flatnonzero(alone)
    ranked = singles[np.argsort(ranks[singles], kind="stable")]
    return [(int(np.bincount(classes[places]).argmax()), places) for places in bound], ranked


def _hold_out(
    sets: NDArray[np.object_],
    classes: NDArray[np.int64],
    bound: Groups,
    alone: NDArray[np.int64],
    fraction: float,
    name: str,
) -> None:
    """Move images from training to a set until every class has its part there; a group goes if half of it fits."""
    left = alone[sets[alone] == "training"]
    groups = [(label, places) for label, places in bound if sets[places[0]] == "training"]
    members = np.bincount(classes[left], minlength=int(classes.max(initial=0)) + 1)
    for label, places in groups:
        members[label] += len(places)
    rounded = np.round(members * fraction)
    missing = np.minimum(members - 1, np.maximum(1, rounded)).astype(np.int64)
    for label, places in groups:
        size = len(places)
        if missing[label] > 0 and 2 * missing[label] >= size and members[label] > size:
            sets[places] = name
            missing[label] -= size
    for label in np.flatnonzero(missing > 0).tolist():
        of_class = left[classes[left] == label]
        others = any(label == k for k, places in groups if sets[places[0]] == "training")
        sets[of_class[: min(int(missing[label]), len(of_class) if others else len(of_class) - 1)]] = name


def _deal(
    sets: NDArray[np.object_], classes: NDArray[np.int64], bound: Groups, alone: NDArray[np.int64], split: Split
) -> None:
    """Validation is one of so many folds: groups go to the fold with fewest of their class, the others even out."""
    left = alone[sets[alone] == "training"]
    groups = [(label, places) for label, places in bound if sets[places[0]] == "training"]
    for label in range(int(classes.max(initial=-1)) + 1):
        counts = [0] * split.folds
        for group_label, places in groups:
            if group_label == label:
                fold = counts.index(min(counts))
                counts[fold] += len(places)
                if fold == split.validation_fold - 1:
                    sets[places] = "validation"
        singles = left[classes[left] == label]
        sets[singles[_dealt(counts, len(singles)) == split.validation_fold - 1]] = "validation"


def _dealt(counts: list[int], cards: int) -> NDArray[np.int64]:
    """The fold each of so many images goes to: always the one with fewest, the first of equals."""
    filled = sum(max(0, max(counts) - n) for n in counts)
    folds: list[int] = []
    for _ in range(min(cards, filled)):
        fold = counts.index(min(counts))
        counts[fold] += 1
        folds.append(fold)
    rest = np.arange(cards - len(folds)) % len(counts)
    return np.concatenate([np.array(folds, np.int64), rest])


def _thin(sets: NDArray[np.object_], classes: NDArray[np.int64], ranks: NDArray[np.float64], fraction: float) -> None:
    """Leave out all but a part of every class's training images, at least one; what is judged on stays as large."""
    for label in np.unique(classes):
        of_class = np.flatnonzero((sets == "training") & (classes == label))
        ranked = of_class[np.argsort(ranks[of_class], kind="stable")]
        sets[ranked[max(1, round(len(of_class) * fraction)) :]] = LEFT_OUT
