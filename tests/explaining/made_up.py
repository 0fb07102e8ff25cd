"""Mistakes and right answers made up for the finders of causes; a test changes some."""

from __future__ import annotations

from typing import Any, cast

import numpy as np

from attentive_lens.core.jobs import finish
from attentive_lens.explaining.causes import CAUSES, Answered, CauseFound, Evidence
from attentive_lens.explaining.causes.grouping import Group
from attentive_lens.explaining.causes.measures import measured
from attentive_lens.plan.plan import Plan
from attentive_lens.predicting import Predictor

CLASSES = ("spiny", "netted", "winged")
SIDE = 32
TRAINING, RIGHT, WRONG = 240, 120, 30
SIZES = np.full(2, SIDE)


class Judge:
    """Says what a function says of images N×H×W×C."""

    classes = CLASSES

    def __init__(self, says: Any) -> None:
        self.says = says

    def prepare(self, pixels: np.ndarray) -> np.ndarray:
        return pixels.astype(np.float32)

    def scores(self, images: np.ndarray) -> np.ndarray:
        return np.eye(len(CLASSES))[self.says(images)]

    def predicted(self, scores: np.ndarray) -> Any:
        return scores.argmax(axis=1)

    def checked(self, scores: np.ndarray) -> np.ndarray:
        return scores


def constant(images: np.ndarray) -> np.ndarray:
    return np.zeros(len(images), int)


class Plot:
    """Pixels and channel statistics of training images, right answers and mistakes; a test changes some."""

    def __init__(self, seed: int = 0, right: int = RIGHT, wrong: int = WRONG) -> None:
        random = np.random.default_rng(seed)
        self.right = right
        self.count = TRAINING + right + wrong
        self.pixels = random.integers(60, 190, (self.count, SIDE, SIDE, 3)).astype(np.uint8)
        self.true = np.arange(self.count) % 3
        self.predicted = self.true.copy()
        self.wrong = np.arange(TRAINING + right, self.count)
        self.predicted[self.wrong] = (self.true[self.wrong] + 1) % 3
        self.probability = np.full(self.count, 0.5)
        self.sizes = np.tile(SIZES, (self.count, 1))
        self.statistics = random.normal(0, 1, (self.count, 12)) + 14 * np.eye(12)[self.true]
        self.origins: list[tuple[str, ...]] = [("source 1",)] * self.count
        self.groups: tuple[Group, ...] = ()
        self.units = np.arange(self.count)
        self.plan = Plan()

    def of(self, places: np.ndarray) -> Answered:
        measures = measured(self.pixels[places], self.sizes[places])
        return Answered(
            places,
            self.true[places],
            self.predicted[places],
            self.probability[places],
            self.sizes[places],
            tuple(self.origins[k] for k in places),
            self.units[places],
            self.statistics[places],
            measures,
            len(places),
        )

    def evidence(self, says: Any = constant, covered: dict[int, np.ndarray] | None = None) -> Evidence:
        right = np.arange(TRAINING, TRAINING + self.right)
        scored = self.right + len(self.wrong)
        groups = self.groups or (Group(np.arange(len(self.wrong)), np.ones((16, 16), np.float32), 0.5, 0.5, 0.1, 0.1),)
        judge = cast(Predictor, Judge(says))
        parts = (self.of(self.wrong), self.of(right), self.of(np.arange(TRAINING)))
        return Evidence(judge, self.plan, self.pixels, *parts, groups, scored, covered or {})


def only(kind: str, evidence: Evidence) -> CauseFound | None:
    return finish(CAUSES[kind].find(evidence))
