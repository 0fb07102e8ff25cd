"""The task that says what a plan will cost, by training it for a second on made-up pixels."""

from __future__ import annotations

import os
import statistics
import time
from pathlib import Path

import numpy as np

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.random import random_generator
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.network.bases import base_model
from attentive_lens.desk.network.design import facts_of, price_in_memory
from attentive_lens.desk.requests.prices import PlanPrice, PricePlan, ThreadTime
from attentive_lens.engine.arrays import DTYPES
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadValue
from attentive_lens.images.feeding import Batch, Feed
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.plan import Plan
from attentive_lens.training.frozen_outputs import BUDGET, bytes_of, outputs_of
from attentive_lens.training.learner import NetworkLearner
from attentive_lens.training.learners import learner_for
from attentive_lens.workspace import Workspace

SECONDS = 1.5
"""Training for so long, at least."""
FEWEST, MOST = 4, 24
"""Batches that are timed; the first two, which compile and settle, are not."""
SETTLING = 2
TURNS = 5
"""In which every number of threads is timed."""


def price(request: PricePlan) -> Job[PlanPrice]:
    """See `PricePlan`: batches are made, augmented and learned from as in training; pixels are drawn at random."""
    place, plan = Workspace.open(Path(request.workspace)), Plan.read(request.plan)
    base_model(place, plan)
    images = collection(place, plan)
    if not plan.task.draws:
        plan.loss.check(len(images.learned(plan.task)))
    training, validation = images.count("training"), images.count("validation")
    if training < 2:
        raise BadValue("The plan has no price", f"the training set has {training} images", "Add images")
    memory, free = price_in_memory(plan, len(images.learned(plan.task)), validation)
    if memory > free:
        raise BadValue(
            "The plan does not fit into memory",
            f"training takes about {memory / 2**30:.1f} GiB and {free / 2**30:.1f} GiB are free",
            "Choose a smaller batch size, a smaller input size or fewer filters",
        )
    network_plan, _ = facts_of(plan, len(images.learned(plan.task)))
    shape, size = plan.preprocessing.shape, min(plan.training.batch_size, training)
    kernels, dtype = plan.training.kernels, DTYPES[plan.training.precision]
    network = Network.start(network_plan, shape, plan.seed, dtype, plan.initialisation, kernels)
    random = random_generator(0, "pixels for a price")
    pixels = random.integers(0, 256, (size, *shape), np.uint8)
    labels = random.integers(0, len(images.learned(plan.task)), size).astype(np.int64)
    preprocessor = Preprocessor.measured(pixels, plan.preprocessing)
    members = np.resize(np.arange(size), size * (MOST + SETTLING))
    classes = len(images.learned(plan.task))
    feed = Feed(pixels, labels, members, plan.augmentation, preprocessor, plan.seed, size, classes, 0, plan.task.wanted)
    steps: list[float] = []
    with ThreadPool(plan.training.threads) as thread_pool:
        learner = learner_for(plan, network, preprocessor, thread_pool, np.ones(classes, np.int64))
        frozen = learner.frozen
        judged: PixelArray = pixels
        if frozen and bytes_of(network, frozen, training + validation) <= BUDGET:
            judged = outputs_of(network, frozen, feed.prepared(0, 0, size), thread_pool)
            feed.frozen_outputs = np.resize(judged, (1, len(members), *judged.shape[1:]))
        batches = feed.batches_of(0)
        began = time.perf_counter()
        for number, batch in enumerate(batches):
            learner.learn(batch, StepContext(plan.seed, 0, number, 0), feed.batches)
            now = time.perf_counter()
            if number >= SETTLING:
                steps.append(now - began)
            began = now
            yield Progress(number, MOST, "training for a moment")
            if len(steps) >= FEWEST and sum(steps) >= SECONDS:
                break
        batches.close()  # type: ignore[attr-defined]
        learner.evaluate(judged, labels)
        began = time.perf_counter()
        learner.evaluate(judged, labels)
        evaluation = (time.perf_counter() - began) * validation / size
        example = feed.batch(0, 0, np.arange(len(members)))
    times = (yield from _thread_times(learner, example, judged)) if request.threads else ()
    step = statistics.median(steps)
    batches_of_epoch = -(-training // plan.training.batch_size)
    seconds = step * training / size + evaluation
    return PlanPrice(seconds, step, evaluation, batches_of_epoch, training, validation, memory, free, times)


def choices_of_threads(cores: int) -> tuple[int, ...]:
    """1, 2, 4 … and as many as there are cores."""
    return tuple(sorted({cores, *(2**k for k in range(cores.bit_length()) if 2**k <= cores)}))


def _thread_times(learner: NetworkLearner, batch: Batch, judged: PixelArray) -> Job[tuple[ThreadTime, ...]]:
    """Of a batch answered and learned from, for every number of threads, in turn so that all see the same machine."""
    counts = choices_of_threads(len(os.sched_getaffinity(0)))
    taken: dict[int, list[tuple[float, float]]] = {count: [] for count in counts}
    labels = np.zeros(len(judged), np.int64)
    for turn in range(TURNS + 1):
        for count in counts:
            with ThreadPool(count) as thread_pool:
                learner.thread_pool = thread_pool
                began = time.perf_counter()
                learner.evaluate(judged, labels)
                answered = time.perf_counter()
                learner.learn(batch, StepContext(learner.plan.seed, 0, turn, 0), TURNS + 1)
                if turn:  # the first settles
                    taken[count].append((answered - began, time.perf_counter() - answered))
            yield Progress(turn, TURNS, "timing threads")
    return tuple(
        ThreadTime(count, *(statistics.median(each) for each in zip(*taken[count], strict=True))) for count in counts
    )
