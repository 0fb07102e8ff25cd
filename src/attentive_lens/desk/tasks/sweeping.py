"""The task that trains a plan for a moment at rising learning rates and says which to begin with."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

from attentive_lens.core.jobs import Job
from attentive_lens.core.random import some_of
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.images.data import gather
from attentive_lens.desk.network.bases import base_model
from attentive_lens.desk.requests.rates import RatesSwept, SweepRates
from attentive_lens.desk.training.preparing import check_memory, starting_point
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadUsage, BadValue
from attentive_lens.images.feeding import Feed
from attentive_lens.images.sampling import shown_of_classes
from attentive_lens.plan.plan import Plan
from attentive_lens.training.learners import learner_for
from attentive_lens.training.rate_sweep import Suggestion, smoothed, suggestion, sweep
from attentive_lens.workspace import Workspace

JUDGED = 64
"""Training images, at most, that the loss is taken on."""


def sweep_rates(request: SweepRates) -> Job[RatesSwept]:
    """See `SweepRates`: images, augmentation, network and optimiser are the plan's."""
    place, plan = Workspace.open(Path(request.workspace)), Plan.read(request.plan)
    if plan.task.is_pair:
        why = "a pair's losses do not fall where it learns well: each side's is against the other"
        raise BadUsage("Learning rates cannot be swept", why, "Sweep the setting itself, and compare drawings")
    base = base_model(place, plan)
    if base is not None:
        plan = replace(plan, preprocessing=base.preprocessor.settings)
    check_memory(plan, collection(place, plan))
    data = yield from gather(place, plan)
    names = tuple(data.collection.learned(plan.task))
    targets = data.collection.targets(names) if plan.task.several else None
    data = data if plan.task.several else data.seen_by(names)
    members, classes = data.members("training"), len(names)
    if len(members) < 2:
        raise BadValue("No learning rate can be tried", f"the training set has {len(members)} images", "Add images")
    network, preprocessor = starting_point(plan, data, base, classes)
    size, labels = plan.training.batch_size, data.labels
    wanted, sampling = plan.task.wanted, plan.training.sampling
    steps, seed = plan.augmentation, plan.seed
    feed = Feed(data.pixels, labels, members, steps, preprocessor, seed, size, classes, 0, wanted, sampling, targets)
    judges = members[some_of(len(members), JUDGED, "images to judge learning rates by")]
    still = Feed(data.pixels, labels, judges, (), preprocessor, seed, len(judges), classes, 0, wanted, targets=targets)
    with ThreadPool(plan.training.threads) as thread_pool:
        counts = shown_of_classes(labels[members], classes if targets is None else len(targets), sampling)
        learner = learner_for(plan, network, preprocessor, thread_pool, counts, targets=targets)
        if not learner.route.trainable:
            raise BadValue("There is nothing to learn", "every layer with weights is frozen", "Freeze fewer layers")
        rates, losses = yield from sweep(learner, feed, still.batch(0, 0, np.arange(len(judges))))
    result = suggestion(rates, losses)
    known = (result.lowest, result.highest, result.rate) if result is not None else (0.0, 0.0, 0.0)
    curve = smoothed(losses).tolist()
    advice = advice_of(result, plan.optimiser.learning_rate)
    return RatesSwept(tuple(rates.tolist()), tuple(losses.tolist()), tuple(curve), *known, advice)


def advice_of(result: Suggestion | None, planned: float) -> str:
    """What the sweep says of the plan's learning rate."""
    if result is None:
        return (
            "No learning rate made the loss fall clearly in so few steps: the sweep cannot say which is good. If"
            " training does not learn either, look at the labels, the preprocessing and what is frozen."
        )
    begin = f"Begin with {result.rate:.2g}; from {result.lowest:.2g} to {result.highest:.2g} the loss falls."
    if planned < result.lowest / 3:
        return f"{begin} The plan's {planned:.2g} is low: it would learn slowly."
    if planned > result.highest:
        return f"{begin} The plan's {planned:.2g} is high: training may not settle, or run away."
    return f"{begin} The plan's {planned:.2g} is sound."
