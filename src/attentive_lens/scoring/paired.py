"""Two models on the same images: what one fixed and what it broke, and whether that is more than chance."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from attentive_lens.core.telling import signed
from attentive_lens.scoring.intervals import interval, interval_of_mean
from attentive_lens.scoring.scores import Scores


@dataclass(frozen=True)
class ClassChange:
    """Images of a class by what became of them."""

    name: str
    images: int
    fixed: int
    broken: int
    still_wrong: int


@dataclass(frozen=True)
class Paired:
    """A second model against a first, on the images that both answered.

    Attributes
    ----------
    images : int
        How many.
    fixed, broken, still_wrong : tuple of int
        Numbers of images that only the second, only the first, and neither answers rightly, in the catalogue.
    difference, low, high : float or None
        By how much more of them the second answers rightly, with its 95 % interval (Newcombe 1998, method 10); where
        images belong together the wider one of that and `interval_of_mean`.
    p_value : float or None
        That as many changed sides by chance: McNemar's test, exact, both sides (McNemar 1947), of groups by what most
        of their changed images did, where images belong together.
    by_class : tuple of ClassChange
        In the order of the first model's classes.
    """

    images: int
    fixed: tuple[int, ...]
    broken: tuple[int, ...]
    still_wrong: tuple[int, ...]
    difference: float | None
    low: float | None
    high: float | None
    p_value: float | None
    by_class: tuple[ClassChange, ...]


def paired(one: Scores, other: Scores) -> Paired:
    """The second against the first; an answer is right by the label each knew, and classes are matched by name."""
    theirs = {answer.image: other.classes[answer.predicted] == other.classes[answer.true] for answer in other.answers}
    groups: dict[tuple[bool, bool], list[int]] = {(a, b): [] for a in (True, False) for b in (True, False)}
    classes: dict[str, list[int]] = {name: [0, 0, 0, 0] for name in one.classes}
    for answer in one.answers:
        if answer.image not in theirs:
            continue
        kind = (answer.predicted == answer.true, theirs[answer.image])
        groups[kind].append(answer.image)
        counts = classes[one.classes[answer.true]]
        counts[0] += 1
        for place, wanted in enumerate(((False, True), (True, False), (False, False)), 1):
            counts[place] += kind == wanted
    fixed, broken, neither = groups[False, True], groups[True, False], groups[False, False]
    images = sum(map(len, groups.values()))
    low: float | None = None
    high: float | None = None
    chance: float | None = None
    if images:
        together = np.array([one.groups[one.places[number]] for own in groups.values() for number in own], np.int64)
        changes = np.repeat([float(b) - float(a) for a, b in groups], [len(own) for own in groups.values()])
        sums = np.bincount(np.unique(together, return_inverse=True)[1], changes)
        chance = chance_of(int((sums > 0).sum()), int((sums < 0).sum()))
        low, high = _interval(len(groups[True, True]), len(fixed), len(broken), len(neither))
        if len(sums) < images:
            of_groups = interval_of_mean(changes, together)
            low, high = max(-1.0, min(low, of_groups[0])), min(1.0, max(high, of_groups[1]))
    return Paired(
        images,
        tuple(fixed),
        tuple(broken),
        tuple(neither),
        (len(fixed) - len(broken)) / images if images else None,
        low,
        high,
        chance,
        tuple(ClassChange(name, *counts) for name, counts in classes.items() if counts[0]),
    )


def chance_of(fixed: int, broken: int) -> float:
    """Of so many changes going at least so unevenly both ways, were each side as likely."""
    changed = fixed + broken
    if not changed:
        return 1.0
    tail: int = sum(math.comb(changed, k) for k in range(min(fixed, broken) + 1))
    return float(min(1.0, 2 * tail / (1 << changed)))


def _interval(both: int, fixed: int, broken: int, neither: int) -> tuple[float, float]:
    """Of the difference of two paired shares: Wilson's limits of each, joined by how the two go together."""
    images = both + fixed + broken + neither
    second, first = (both + fixed) / images, (both + broken) / images
    low_2, high_2 = interval(second, images)
    low_1, high_1 = interval(first, images)
    margins = (both + fixed) * (broken + neither) * (both + broken) * (fixed + neither)
    together = float(both * neither - fixed * broken)
    if together > 0:
        together = max(together - images / 2, 0.0)
    phi = together / math.sqrt(margins) if margins else 0.0

    def reach(a: float, b: float) -> float:
        return math.sqrt(max(0.0, a * a - 2 * phi * a * b + b * b))

    apart = second - first
    return apart - reach(second - low_2, high_1 - first), apart + reach(high_2 - second, first - low_1)


def in_words(result: Paired, one: int, other: int) -> str:
    """What came of the second run against the first, and whether chance does as much."""
    if not result.images or result.difference is None or result.p_value is None:
        return f"Runs {one} and {other} have no image in common here, so nothing can be told of them one by one."
    points = result.difference * 100
    ahead = f"{abs(points):.1f} points {'more' if points > 0 else 'fewer'} right" if points else "as many right"
    judged = "more than chance does" if result.p_value < 0.05 else "no more than chance does"
    within = ""
    if result.low is not None and result.high is not None:
        within = f"95 %: {signed(result.low * 100, '.1f')} to {signed(result.high * 100, '.1f')}"
    return (
        f"On {result.images} images in common run {other} fixes {len(result.fixed)} mistakes of run {one}, makes"
        f" {len(result.broken)} new ones, and {len(result.still_wrong)} stay wrong: {ahead} ({within}), {judged}"
        f" (p = {result.p_value:.2g})."
    )
