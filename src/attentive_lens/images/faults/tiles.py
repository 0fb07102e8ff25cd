"""Pictures cut from one photograph, or taken of one scene, that stand in several sets."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft2, next_fast_len, rfft2

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.images.faults.base import Action, Evidence, Finder, Finding, at_a_time
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.images.registration import fine_picture
from attentive_lens.images.split import name_pattern

SAMPLED = 1500
CLOSER = 3.0
"""Times as often as by chance a picture's nearest must be of its group."""
OFTEN = 0.35
"""Part of the pictures whose nearest must be of their group."""
PAIRS = 120
OVERLAP = 0.6
"""Correlation of fine detail where two pictures overlap, from which they do."""
LEAST_OVERLAP = 0.12
"""Part of a picture that must overlap."""


class Tiles(Finder):
    """Names that part a class into groups, where pictures of a group are far more alike than others of the class.

    Such pictures are cut from one photograph, or are frames of one scene: a network knows them again, and an
    evaluation on some while training on the others is too good. Whether they overlap is looked for in pairs: a strip
    that both show. Only names are asked for groups, so unnamed tiles are not found.
    """

    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """At most one finding."""
        yield Progress(0, 1, "looking for tiles")
        pattern, groups = name_pattern(evidence.names, evidence.labels)
        if not pattern:
            return []
        members: dict[int, list[int]] = {}
        for place, group in groups.items():
            members.setdefault(group, []).append(place)
        across = [
            group_places for group_places in members.values() if len({evidence.sets[p] for p in group_places}) > 1
        ]
        if not across:
            return []
        if not (yield from _are_alike(evidence, groups)):
            return []
        within, apart = yield from _overlaps(evidence, groups)
        overlapping = within >= 0.15 and within > 3 * apart
        places = tuple(place for group_places in across for place in group_places)
        what = (
            "overlap like tiles of one photograph"
            if overlapping
            else "are alike, as tiles or frames of one picture are"
        )
        why = (
            f"{len(places)} images in {len(across)} groups by name {what}, and stand in more than one set:"
            " the score on such a set is too good"
        )
        remedy = "Keep images of one name in one set: the split can, by what their names share"
        settings = {"split.keep_together": "name pattern", "split.group_pattern": pattern}
        actions = (Action(f"split by the name pattern {pattern}", settings=settings), Action("flag them", flag=places))
        return [Finding("tiles", why, remedy, places, actions, tuple(tuple(group_places) for group_places in across))]


def _are_alike(evidence: Evidence, groups: dict[int, int]) -> Job[bool]:
    """Whether pictures of a group are far more alike than pictures of a class, by colour, contrast and detail."""
    names = np.array([groups.get(place, -1) for place in range(len(evidence))])
    chosen = _sampled(names)
    features = np.zeros((len(chosen), 0), np.float32)
    parts = []
    for progress, part in at_a_time(len(chosen), "looking for tiles"):
        yield progress
        parts.append(_features(evidence.images(chosen[part])))
    features = np.concatenate(parts)
    features = (features - features.mean(axis=0)) / np.maximum(features.std(axis=0), 1e-6)
    near, chance = 0.0, 0.0
    for progress, part in at_a_time(len(chosen), "looking for tiles"):
        yield progress
        gaps = np.square(features[part, None] - features[None]).sum(axis=2)
        gaps[np.arange(len(part)), part] = np.inf
        gaps[evidence.labels[chosen[part]][:, None] != evidence.labels[chosen]] = np.inf
        same_group = names[chosen[part]][:, None] == names[chosen]
        others = np.isfinite(gaps).sum(axis=1)
        near += float((names[chosen[gaps.argmin(axis=1)]] == names[chosen[part]])[others > 0].sum())
        chance += float(((same_group & np.isfinite(gaps)).sum(axis=1) / np.maximum(others, 1)).sum())
    return near >= OFTEN * len(chosen) and near >= CLOSER * chance


def _sampled(names: NDArray[np.int64]) -> NDArray[np.int64]:
    """Places of whole groups, as many as there is time for."""
    counts = np.bincount(names[names >= 0])
    order = np.argsort(np.random.default_rng(0).random(len(counts)), kind="stable")
    chosen_groups = order[np.cumsum(counts[order]) <= SAMPLED]
    return np.flatnonzero(np.isin(names, chosen_groups if len(chosen_groups) else order[:1]))


def _features(images: PixelArray) -> NDArray[np.float32]:
    """Mean and deviation of each channel, and steps between neighbours down and across, N×F."""
    values = images.astype(np.float32) / 255
    down, across = (np.abs(np.diff(values, axis=axis)).mean(axis=(1, 2, 3)) for axis in (1, 2))
    steps = np.log(np.stack([down, across], axis=1) + 1e-3)
    return np.concatenate([values.mean(axis=(1, 2)), values.std(axis=(1, 2)), steps], axis=1)


def _overlaps(evidence: Evidence, groups: dict[int, int]) -> Job[tuple[float, float]]:
    """Part of some pairs of one group, and of some of one class but two groups, that overlap."""
    random = np.random.default_rng(1)
    places = np.array(sorted(groups))
    names = np.array([groups[place] for place in places.tolist()])
    parts = []
    for same in (True, False):
        overlapping = compared = 0
        for k in random.permutation(len(places))[: 4 * PAIRS].tolist():
            others = (names == names[k]) == same
            others &= evidence.labels[places] == evidence.labels[places[k]]
            others[k] = False
            if compared == PAIRS or not others.any():
                continue
            yield Progress(compared, PAIRS, "looking for tiles")
            candidates = np.flatnonzero(others)
            # neighbours by name first: they are most likely neighbours in the photograph
            other = candidates[np.argmin(np.abs(candidates - k))] if same else random.choice(candidates)
            one, two = (fine_picture(evidence.grey(np.array([places[n]]))[0]) for n in (k, int(other)))
            overlapping += overlap(one, two) > OVERLAP
            compared += 1
        parts.append(overlapping / max(1, compared))
    return parts[0], parts[1]


def overlap(one: NDArray[np.float32], other: NDArray[np.float32]) -> float:
    """Greatest correlation of two pictures H×W of mean 0 where they overlap, over all shifts of a quarter and more."""
    side = one.shape[0]
    size = next_fast_len(2 * side, real=True)
    ones = np.ones_like(one)

    def products(a: NDArray[np.float32], b: NDArray[np.float32]) -> NDArray[np.float32]:
        return np.asarray(irfft2(rfft2(a, (size, size)) * rfft2(b, (size, size)).conj(), (size, size)), np.float32)

    both, area = products(one, other), products(ones, ones)
    strength = np.sqrt(np.maximum(products(one * one, ones) * products(ones, other * other), 1e-6))
    shifts = np.minimum(np.arange(size), size - np.arange(size))
    far = np.maximum(shifts[:, None], shifts[None, :]) >= side // 4
    fair = far & (area >= LEAST_OVERLAP * side * side)
    return float((both / strength)[fair].max(initial=0))
