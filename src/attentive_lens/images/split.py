"""Parting images into training, validation and test set."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from attentive_lens.plan.chance import chance
from attentive_lens.plan.settings import Split

SETS = ("training", "validation", "test")
LEFT_OUT = "left out"
"""What the small subset for a quick run does without."""


def part(
    labels: Sequence[int],
    given: Sequence[str | None],
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
    given : sequence of str or None
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
    sets = np.array([name or "training" for name in given], object)
    lots = chance(seed, "split").random(len(classes))
    free = np.array([name is None or name == "training" for name in given], bool)
    units = _units(free, classes, lots, groups or {})
    if split.test and "test" not in sets:
        _hold_out(sets, units, split.test, "test")
    if split.folds > 1:
        _deal(sets, units, split)
    elif split.validation and "validation" not in sets:
        _hold_out(sets, units, split.validation, "validation")
    if split.subset < 1:
        _thin(sets, classes, lots, split.subset)
    return [str(name) for name in sets]


def groups_by_name(names: Sequence[str], pattern: str) -> dict[int, int]:
    """Places of the images whose names give the same text for a regular expression, numbered by that text.

    The text is the first bracket's, or all that the expression matches; names it does not match stand alone.
    """
    known: dict[str, int] = {}
    found: dict[int, int] = {}
    expression = re.compile(pattern)
    for place, name in enumerate(names):
        match = expression.search(name)
        if match is not None:
            text = match.group(1) if expression.groups else match.group(0)
            found[place] = known.setdefault(text or "", len(known))
    return found


Units = list[tuple[int, NDArray[np.int64]]]
"""What stays together: its class, and its places."""


def _units(
    free: NDArray[np.bool_], classes: NDArray[np.int64], lots: NDArray[np.float64], groups: Mapping[int, int]
) -> Units:
    """Groups and single images, large ones first, then by lot."""
    together: dict[int, list[int]] = {}
    for place, group in groups.items():
        if free[place]:
            together.setdefault(group, []).append(place)
    bound = [np.array(places) for places in together.values() if len(places) > 1]
    alone = free.copy()
    for places in bound:
        alone[places] = False
    bound.sort(key=lambda places: (-len(places), float(lots[places].min())))
    units: Units = [(int(np.bincount(classes[places]).argmax()), places) for places in bound]
    singles = np.flatnonzero(alone)
    singles = singles[np.argsort(lots[singles], kind="stable")]
    units += [(int(classes[place]), np.array([place])) for place in singles]
    return units


def _hold_out(sets: NDArray[np.object_], units: Units, fraction: float, name: str) -> None:
    """Move units from training to a set until every class has its part there; a group goes if half of it fits."""
    members: dict[int, int] = {}
    for label, places in units:
        members[label] = members.get(label, 0) + int((sets[places] == "training").sum())
    wanted = {label: min(count - 1, max(1, round(count * fraction))) for label, count in members.items()}
    for label, places in units:
        size = len(places)
        if sets[places[0]] == "training" and wanted[label] > 0 and 2 * wanted[label] >= size and members[label] > size:
            sets[places] = name
            wanted[label] -= size
            members[label] -= size


def _deal(sets: NDArray[np.object_], units: Units, split: Split) -> None:
    """Validation is one of so many folds, dealt by class to the fold that has fewest of it."""
    counts: dict[int, list[int]] = {}
    for label, places in units:
        if sets[places[0]] == "training":
            own = counts.setdefault(label, [0] * split.folds)
            fold = own.index(min(own))
            own[fold] += len(places)
            if fold == split.fold - 1:
                sets[places] = "validation"


def _thin(sets: NDArray[np.object_], classes: NDArray[np.int64], lots: NDArray[np.float64], kept: float) -> None:
    """Leave out all but a part of every class's training and validation images, at least one of each."""
    for name in ("training", "validation"):
        for label in np.unique(classes):
            own = np.flatnonzero((sets == name) & (classes == label))
            ranked = own[np.argsort(lots[own], kind="stable")]
            sets[ranked[max(1, round(len(own) * kept)) :]] = LEFT_OUT
