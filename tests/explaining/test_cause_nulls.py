"""Where mistakes share nothing, no cause is told: each finder alone, and all together."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from functools import cache

import numpy as np
import pytest
from tests.explaining.made_up import CLASSES, TRAINING, Plot, only

from attentive_lens.core.jobs import finish
from attentive_lens.explaining.causes import CAUSES, Evidence, find_causes
from attentive_lens.explaining.causes.grouping import Group
from attentive_lens.plan.plan import Plan

TRIALS, MOST = 20, 1
"""Evidence without a cause, and in how many of them one may be told: one in twenty."""


@cache
def without_a_cause(seed: int) -> Evidence:
    """Mistakes by lot among images of any brightness, contrast and colour, for a model that is turned by anything."""
    plot, random = Plot(seed), np.random.default_rng(1000 + seed)
    light = random.normal(1, 0.2, (plot.count, 1, 1, 3)) * random.normal(1, 0.15, (plot.count, 1, 1, 1))
    plot.pixels = (plot.pixels * light).clip(0, 255).astype(np.uint8)
    plot.predicted[plot.wrong] = (plot.true[plot.wrong] + random.integers(1, 3, len(plot.wrong))) % len(CLASSES)
    plot.probability[TRAINING:] = random.uniform(0.4, 1, plot.count - TRAINING)
    shares = random.uniform(0.05, 0.6, 5)
    plot.origins = [
        tuple(f"the folder {n}" for n, share in enumerate(shares) if random.random() < share) for _ in range(plot.count)
    ]
    ordered = random.permutation(len(plot.wrong))
    plot.groups = tuple(
        Group(np.sort(part), random.random((16, 16)).astype(np.float32), 0.5, 0.5, 0.1, 0.1)
        for part in np.array_split(ordered, 3)
    )

    def says(images: np.ndarray) -> np.ndarray:
        """Another class for whatever is changed by a hair."""
        return (np.abs(images).sum(axis=(1, 2, 3)) * 7.3).astype(int) % len(CLASSES)

    return plot.evidence(says)


def test_no_channel_is_told_either_where_channels_have_names() -> None:
    named = Plan().changed({"preprocessing.channel_names": ["near", "far", "wide"]})
    blamed = sum(only("channel", replace(without_a_cause(seed), plan=named)) is not None for seed in range(TRIALS))
    assert blamed <= MOST


@pytest.mark.parametrize("kind", [kind for kind in CAUSES if kind not in ("other", "overlap")])
def test_no_finder_tells_a_cause_of_mistakes_made_by_lot(kind: str) -> None:
    blamed = sum(only(kind, without_a_cause(seed)) is not None for seed in range(TRIALS))
    assert blamed <= MOST


def test_all_finders_together_leave_such_mistakes_unexplained() -> None:
    kinds = Counter(cause.kind for seed in range(TRIALS // 2) for cause in finish(find_causes(without_a_cause(seed))))
    assert kinds["other"] + kinds["overlap"] >= 0.95 * sum(kinds.values())
