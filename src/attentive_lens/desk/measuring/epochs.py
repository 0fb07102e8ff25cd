"""The epoch as a user runs it: a plan trained on made-up pixels, its share of the peak, and where the time goes.

All of training takes part, as in `desk.training`: batches augmented by a thread of its own, the step, the optimiser,
evaluation, checkpoints and journal. Multiply-adds are those done, by the direct formula: forward, gradient of weights
and, but for the input layer, gradient of inputs for every training image; forward for every validation image.
"""

from __future__ import annotations

import tempfile
import threading
import time
from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import replace
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np

from attentive_lens.core.jobs import finish
from attentive_lens.core.random import random_generator
from attentive_lens.desk.measuring.results import EpochFigure
from attentive_lens.desk.network.design import facts_of
from attentive_lens.engine.arrays import DTYPES
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.images.feeding import Feed
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.images.rows import Chosen
from attentive_lens.plan.examination import Facts
from attentive_lens.plan.layers import LayerSettings
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.tasks import Generate
from attentive_lens.training.adversary import JUDGED, Adversary
from attentive_lens.training.checkpoints import Checkpoints
from attentive_lens.training.control import Control
from attentive_lens.training.journal import Journal
from attentive_lens.training.learners import learner_for
from attentive_lens.training.loop import run

CLASSES = 6
TIMED = ("forward", "backward", "prepare", "sums", "gradient_sums")
"""What a layer does in a step."""
REST = "Python between, and waiting"
PARTS = ("augmentation", "input layer", "other convolutions", "fully connected", "pooling", "activations",
         "normalisation", "other layers", "optimiser", "evaluation", "journal and checkpoints", REST)  # fmt: skip


class Clock:
    """Processor seconds of all threads by part."""

    def __init__(self) -> None:
        self.seconds: dict[str, float] = defaultdict(float)
        self.marks: list[tuple[float, dict[str, float]]] = []
        self._lock = threading.Lock()

    def count(self, part: str, owner: object, method: str, threads: int = 0) -> None:
        """Count what a method takes: processor time of whoever calls it, or all time of so many threads."""
        work: Callable[..., Any] = getattr(owner, method)
        now = time.perf_counter if threads else time.thread_time

        def counted(*arguments: Any, **named: Any) -> Any:
            began = now()
            try:
                return work(*arguments, **named)
            finally:
                with self._lock:
                    self.seconds[part] += max(1, threads) * (now() - began)

        setattr(owner, method, counted)

    def mark_at(self, owner: object, method: str) -> None:
        """Note the time, and what was counted so far, whenever a method is called."""
        work: Callable[..., Any] = getattr(owner, method)

        def marked(*arguments: Any) -> Any:
            with self._lock:
                self.marks.append((time.perf_counter(), defaultdict(float, self.seconds)))
            return work(*arguments)

        setattr(owner, method, marked)


OTHERS = ("flatten", "dropout", "resampling", "reshape", "codes", "normal codes", "drawing", "noise", "class")


def part_of(settings: LayerSettings, first: bool) -> str:
    """The part that a layer's time is told under; ``first`` if it is the first convolution."""
    if settings.kind == "convolution":
        return "input layer" if first else "other convolutions"
    if settings.kind == "transposed convolution":
        return "other convolutions"
    if settings.kind in ("fully connected", "output"):
        return "fully connected"
    for words, part in (("pooling", "pooling"), ("normalisation", "normalisation")):
        if settings.kind.endswith(words):
            return part
    return "other layers" if settings.joins or settings.kind in OTHERS else "activations"


def epoch_of(name: str, plan: Plan, images: int, epochs: int, peak: Callable[[], float]) -> EpochFigure:
    """Train a plan for some epochs, and one more before that is not counted.

    Parameters
    ----------
    name : str
        What it is told under.
    plan : Plan
        Its threads are those of the peak.
    images : int
        To train on; a fifth as many are evaluated.
    epochs : int
        That are counted.
    peak : callable
        Multiply-adds a second of matrix products on as many threads; taken before and after.
    """
    shape, threads = plan.preprocessing.shape, plan.training.threads
    random = random_generator(0, "pixels for an epoch")
    judged = max(1, images // 5)
    pixels = random.integers(0, 256, (images + judged, *shape), np.uint8)
    labels = random.integers(0, CLASSES, images + judged).astype(np.int64)
    preprocessor = Preprocessor.measured(pixels[:images], plan.preprocessing)
    network_plan, facts = facts_of(plan, CLASSES)
    network = Network.start(network_plan, shape, plan.seed, DTYPES[plan.training.precision], plan.initialisation)
    size = plan.training.batch_size
    feed = Feed(pixels, labels, np.arange(images), plan.augmentation, preprocessor, plan.seed, size, CLASSES)
    feed.draws = plan.task.wanted
    clock = Clock()
    first = next((node.name for node in network_plan.nodes if node.layer.kind == "convolution"), "")
    for node in network_plan.nodes:
        for method in TIMED:
            clock.count(part_of(node.layer, node.name == first), network.layers[node.name], method)
    clock.count("augmentation", feed, "batch")
    before = peak()
    with tempfile.TemporaryDirectory() as folder, ThreadPool(threads) as thread_pool:
        counts = np.ones(CLASSES, np.int64)
        learner = learner_for(plan, network, preprocessor, thread_pool, counts, feed.examples)
        clock.count("optimiser", learner.optimiser, "step")
        if isinstance(learner, Adversary):
            clock.count("optimiser", learner.opponent, "step")
        clock.count("evaluation", learner, "evaluate", threads)
        model = ModelFile(network.plan, {}, preprocessor, tuple("abcdef"), plan.outputs, network.used_kernels())
        checkpoints = Checkpoints(Path(folder) / "checkpoints", model)
        with Journal(Path(folder) / "journal.jsonl") as journal:
            for owner, method in ((checkpoints, "keep"), (checkpoints, "write"), (journal, "write")):
                clock.count("journal and checkpoints", owner, method)
            held_out = (Chosen(pixels, np.arange(images, images + judged)), labels[images:])
            whole = replace(plan, training=plan.training.with_(epochs=epochs + 1))
            steps = run(learner, feed, held_out, whole, checkpoints, journal, {}, Control())
            clock.mark_at(learner, "on_epoch_end")
            finish(steps)
    after = peak()
    (began, counted), (ended, seconds_by_part) = clock.marks[0], clock.marks[-1]
    spent = ended - began
    shares = {part: (seconds_by_part[part] - counted[part]) / (threads * spent) for part in PARTS}
    shares[REST] = max(0.0, 1 - sum(shares.values()))
    seconds = spent / epochs
    done = work_of(plan, network_plan, facts, images, judged)
    speed = done / ((before + after) / 2)
    each = [speed / (later - sooner) for (sooner, _), (later, _) in pairwise(clock.marks)]
    return EpochFigure(name, speed / seconds, min(each), max(each), seconds, done, shares)


def work_of(plan: Plan, network: NetworkPlan, facts: Sequence[Facts], images: int, judged: int) -> int:
    """Multiply-adds of an epoch of so many images, of which so many are evaluated.

    Forward, and once more for the gradients by the weights and by what comes in. Of a pair the discriminator does so
    twice, for real and for drawn images (and once more for mismatched ones), and the generator passes its own through
    the discriminator forward and back.
    """
    cost, first = sum(fact.multiply_adds for fact in facts), costs_of_first(network, facts)
    task = plan.task
    if not isinstance(task, Generate):
        return images * (3 * cost - first) + judged * cost
    sides = [[fact for fact in facts if (fact.name in network.discriminator) == judges] for judges in (True, False)]
    (judging, judging_first), (drawing, drawing_first) = (
        (sum(fact.multiply_adds for fact in side), costs_of_first(network, side)) for side in sides
    )
    turns = task.generator_steps / task.discriminator_steps
    passes = 3 if task.mismatched and network.class_inputs else 2
    step = drawing + passes * (3 * judging - judging_first) + turns * (3 * drawing - drawing_first + 2 * judging)
    return round(images * step + min(JUDGED, judged) * (drawing + 2 * judging))


def costs_of_first(network: NetworkPlan, facts: Sequence[Facts]) -> int:
    """Multiply-adds of the layers with weights that nothing to be learned stands before: no gradient passes them.

    Facts may be of some of the nodes: nothing else is there then.
    """
    learned: set[str] = set()
    cost, known = 0, {fact.name: fact for fact in facts}
    for node in network.nodes:
        if (fact := known.get(node.name)) is None:
            continue
        behind = any(source in learned for source in node.after)
        if fact.weights and not behind:
            cost += fact.multiply_adds
        if fact.weights or behind:
            learned.add(node.name)
    return cost
