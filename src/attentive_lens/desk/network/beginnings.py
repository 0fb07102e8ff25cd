"""Ways a network can begin: new weights, on a base that is frozen, on a base that learns on; each trained shortly.

Every way is trained on all folds but one and asked about that one, so each image is answered by models that never saw
it. Trained twice, once half as long: whether the gap between two ways closes is told by how it closed so far.
"""

from __future__ import annotations

import math
import shutil
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.files import make_folder, of_this_process
from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.network.bases import without_base
from attentive_lens.desk.network.design import facts_of
from attentive_lens.errors import BadValue, LensError
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.shortening import shortened
from attentive_lens.workspace import Run, Workspace

NEW, FROZEN, LEARNING = "new weights", "frozen", "learning on"
WAYS = (NEW, FROZEN, LEARNING)
FOLDS = 3
CHEAP, MOST = 120_000_000_000, 600_000_000_000
"""Multiply-adds of a network's answers in a short training: it may cost so much, and never costs more, about."""
LEAST_PART, MOST_PART = 0.25, 0.5
"""Of the plan's passes over images: a short training has so many if it may cost as much."""
PASSES = 1000
"""Of a short training at least, whatever it costs."""
EPOCHS = 4
"""Of a short training at least, where the plan has as many: of so few images that it comes to the passes."""
LEAST = 0.001
"""Part of the training images that a split can be told to use, at least."""
FROZEN_EPOCHS = 6
"""Times as many epochs a frozen base may be trained for: its outputs are computed once."""
VARIANTS = 8
"""Of each image, where a frozen base's outputs are kept and the plan says no number."""
SLOWER = 0.5
"""Learning rate of each part of a base that learns on, beside the part after it, where the plan has it frozen."""
FEWEST, ENOUGH = 20, 300
"""Images to be asked about: so many are needed, and with so many no other fold is trained."""
RATES = (1.0, 1 / 3, 3.0)
"""Times the plan's learning rate, with which new weights are tried; of equals the first."""
FOLDER = "beginnings"
Answered: TypeAlias = Callable[[Workspace, Run], Job[dict[int, bool]]]


@dataclass(frozen=True)
class Trained:
    """What short trainings of one way came to.

    Attributes
    ----------
    halfway, ended : ndarray, N float64
        How often each image was answered rightly, 0–1, after trainings half as long, and whole.
    seconds : float
        All of them took.
    """

    halfway: NDArray[np.float64]
    ended: NDArray[np.float64]
    seconds: float


@dataclass(frozen=True)
class Extent:
    """How far the short trainings go.

    Attributes
    ----------
    images, epochs : int
        That each learns from, and how often it sees them.
    part : float
        Of a fold's training images that these are, 0–1.
    doublings : float
        How often that must be doubled to come to what the plan itself learns from, and as often.
    folds : int
        That each way is trained and asked on.
    """

    images: int
    epochs: int
    part: float
    doublings: float
    folds: int

    @property
    def passes(self) -> int:
        """How many times it sees an image."""
        return self.images * self.epochs


def way(plan: Plan, word: str) -> Plan:
    """A plan with a base, as it would begin in one of `WAYS`."""
    base = plan.base
    if base is None or word == NEW:
        return without_base(plan)
    if word == LEARNING:
        return plan if not base.frozen else replace(plan, base=base.with_(frozen=False, lr_decay=SLOWER))
    held = replace(plan, base=base.held())
    variants = plan.training.augmentation_variants or VARIANTS
    return held.changed({"training.augmentation_variants": variants}) if plan.augmentation else held


def extent_of(place: Workspace, plan: Plan, seen: frozenset[int]) -> Extent:
    """How far the short trainings of a plan go, where the base was trained with some of the images.

    Raises
    ------
    BadValue
        If too few images are left to be asked about.
    """
    images = collection(place, folded(plan, 1))
    count, known = images.count("training"), images.count("training") + images.count("validation")
    unseen = sum(
        of in ("training", "validation") and row.number not in seen
        for row, of in zip(images.rows, images.sets, strict=True)
    )
    if unseen < FEWEST or count < FOLDS:
        why = f"{known - unseen} of {known} training images are ones the base learned from" if unseen < known else ""
        why = why or f"there are {known} training images"
        raise BadValue("Ways to begin cannot be compared", f"{why}, and {FEWEST} others are needed", "Add images")
    _, facts = facts_of(plan, max(2, len(images.learned(plan.task))))
    whole = count * plan.training.epochs
    adds = max(1, sum(fact.multiply_adds for fact in facts))
    wished = max(LEAST_PART * whole, min(MOST_PART * whole, CHEAP / adds))
    passes = round(min(whole, max(PASSES, min(wished, MOST / adds))))
    used = min(count, max(FOLDS, passes // EPOCHS))
    epochs = max(1, round(passes / used))
    folds = min(FOLDS, -(-ENOUGH * FOLDS // unseen))
    plans_own = collection(place, plan).count("training") * plan.training.epochs
    return Extent(used, epochs, used / count, math.log2(max(1.0, plans_own / (used * epochs))), folds)


def folded(plan: Plan, fold: int) -> Plan:
    """The plan that holds out a fold."""
    return plan.changed({"split.folds": FOLDS, "split.validation_fold": fold})


def short(plan: Plan, extent: Extent, part: float) -> Plan:
    """A plan, its fold chosen, for a part of the short training's passes; evaluated when it ends.

    It is a part of the epochs, or where these are few or not all images are taken, of the images. A frozen base has
    more epochs, up to the plan's.
    """
    epochs, used = extent.epochs, extent.part
    if used < 1 or epochs < EPOCHS:
        used *= part
    else:
        epochs = max(1, round(epochs * part))
    if plan.base is not None and plan.base.frozen:
        epochs = max(epochs, min(plan.training.epochs, FROZEN_EPOCHS * epochs))
    result = shortened(plan, epochs / plan.training.epochs)
    fraction = plan.split.subset_fraction * min(1.0, max(LEAST, used))
    settings = {"training.epochs": epochs, "training.evaluate_every": epochs, "split.subset_fraction": fraction}
    return result.changed(settings)


def compared(
    place: Workspace, plan: Plan, extent: Extent, seen: frozenset[int], answered: Answered
) -> Job[dict[str, Trained]]:
    """Every way trained on every fold, half as long and whole; nothing of it stays on the disk.

    New weights are trained with the best of three learning rates, by the first trainings: the plan's may be one for a
    base, and a base is only of use where it is ahead of new weights as they could be.

    Parameters
    ----------
    seen : frozenset of int
        Numbers of images that the base was trained with: it is not asked about them.
    answered : callable
        Trains a plan in a folder, and says of each image of its fold, by number, whether it was answered rightly.

    Raises
    ------
    LensError
        If a way cannot be trained; new weights, if they cannot at any of the rates.
    """
    total, done = len(RATES) - 1 + 2 * extent.folds * len(WAYS), 0
    folder, seconds = of_this_process(place.cache, FOLDER), dict.fromkeys(WAYS, 0.0)

    def trained(word: str, half: int, fold: int, rate: float = 1.0) -> Job[dict[int, bool]]:
        nonlocal done
        began = time.perf_counter()
        wanted = _at_rate(short(folded(way(plan, word), fold), extent, 1 / half), rate)
        job = answered(place, _run_in(folder, wanted))
        while True:
            try:
                progress = next(job)
            except StopIteration as end:
                done += 1
                seconds[word] += time.perf_counter() - began
                rights: dict[int, bool] = end.value
                return rights
            part = progress.done / max(1, progress.total)
            yield Progress(round(1000 * (done + part)), 1000 * total, f"training: {word}")

    try:
        tries: dict[float, dict[int, bool]] = {}
        failures: list[LensError] = []
        for number, rate in enumerate(RATES, 1):
            try:
                tries[rate] = yield from trained(NEW, 2, 1, rate)
            except LensError as error:  # at such a rate the numbers may run away
                failures.append(error)
                done = number
        if not tries:
            raise failures[0]
        best = max(tries, key=lambda rate: sum(tries[rate].values()))
        rights: dict[tuple[str, int], list[dict[int, bool]]] = {(NEW, 2): [tries[best]]}
        for fold in range(1, extent.folds + 1):
            for half in (2, 1):
                for word in WAYS:
                    if (word, half, fold) != (NEW, 2, 1):
                        answers = yield from trained(word, half, fold, best if word == NEW else 1.0)
                        rights.setdefault((word, half), []).append(answers)
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    images = sorted(set.intersection(*({n for each in parts for n in each} for parts in rights.values())) - seen)
    shares = {key: _shares(parts, images) for key, parts in rights.items()}
    return {word: Trained(shares[word, 2], shares[word, 1], seconds[word]) for word in WAYS}


def _run_in(folder: Path, plan: Plan) -> Run:
    """A run of its own, alone in a folder."""
    shutil.rmtree(folder, ignore_errors=True)
    make_folder(folder)
    run = Run(folder / "0001")
    make_folder(run.folder)
    run.write_plan(plan)
    return run


def _at_rate(plan: Plan, factor: float) -> Plan:
    """With so many times its learning rate."""
    rate = plan.optimiser.specs()["learning_rate"]
    wished = min(max(plan.optimiser.learning_rate * factor, rate.low or 0.0), rate.high or math.inf)
    return plan.changed({"optimiser.learning_rate": wished}) if factor != 1 else plan


def _shares(parts: list[dict[int, bool]], images: list[int]) -> NDArray[np.float64]:
    """Of each image: the part of its answers that are right."""
    return np.array([np.mean([each[n] for each in parts if n in each]) for n in images], np.float64)
