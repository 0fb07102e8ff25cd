"""How far the sets of one run are apart, and where a set is too small to tell, in words."""

from __future__ import annotations

import math
from collections.abc import Mapping

from attentive_lens.core.telling import signed
from attentive_lens.scoring.scores import Scores

WIDE = 0.05
"""Half an interval from which on a set is called small."""
PAIRS = (("training", "validation"), ("validation", "test"))


def difference(one: Scores, other: Scores) -> tuple[float, float, float]:
    """Accuracy of one set minus that of another of other images, with its 95 % interval (Newcombe 1998, method 10)."""
    (low, high), (other_low, other_high) = (s.measures.overview.accuracy.bounds for s in (one, other))
    gap = one.accuracy - other.accuracy
    below = math.hypot(one.accuracy - low, other_high - other.accuracy)
    above = math.hypot(high - one.accuracy, other.accuracy - other_low)
    return gap, gap - below, gap + above


def gaps_in_words(by_set: Mapping[str, Scores]) -> list[str]:
    """A sentence for each pair of neighbouring sets that are scored."""
    sentences = []
    for one, other in PAIRS:
        if one in by_set and other in by_set:
            gap, low, high = difference(by_set[one], by_set[other])
            size = f"{abs(gap) * 100:.1f} points (95 %: {signed(low * 100, '.1f')} to {signed(high * 100, '.1f')})"
            if low <= 0 <= high:
                sentences.append(f"{one.capitalize()} and {other} are {size} apart: no more than by chance.")
            elif gap > 0:
                why = "what it learned by heart" if one == "training" else "what training and choosing never saw"
                sentences.append(f"{other.capitalize()} falls {size} behind {one}: {why}.")
            else:
                sentences.append(f"{other.capitalize()} is {size} ahead of {one}: it is the easier set.")
    return sentences


def small_in_words(by_set: Mapping[str, Scores]) -> str:
    """What to know of sets that are too small to tell much; empty where none is."""
    small = []
    for on, scores in by_set.items():
        low, high = scores.measures.overview.accuracy.bounds
        if (high - low) / 2 > WIDE:
            small.append(f"{on} ({scores.images} images, ±{(high - low) * 50:.0f} points)")
    if not small:
        return ""
    few = " and ".join(small)
    return f"Too few images to tell runs apart that are close: {few}."
