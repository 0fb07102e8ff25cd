"""How fast the engine runs here, as ratios to the matrix-product peak taken directly before and after every sample.

The peak is two threads of ours (or as many as asked for), each on its own 2048³ float32 product. Multiply-adds are
those of the direct formula, so that a kernel which needs fewer can pass 1. Samples during which the machine gave time
to others (stolen time in ``/proc/stat``) are dropped and counted.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np
import psutil

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.measuring.epochs import epoch_of
from attentive_lens.desk.measuring.results import Figure, Held, Measured
from attentive_lens.engine.batches import inference, learn
from attentive_lens.engine.folding import folded
from attentive_lens.engine.layers import LAYERS, Call, StepContext
from attentive_lens.engine.losses import one_hot
from attentive_lens.engine.network import Network
from attentive_lens.engine.optimisers import AdamOptimiser
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.plan.initialisations import He
from attentive_lens.plan.layers import (
    BatchNormalisation,
    Connected,
    Convolution,
    Flatten,
    GlobalPooling,
    LayerSettings,
    MaxPooling,
    Output,
    Relu,
)
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.optimisers import Adam
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS

SIDE = 2048
PIECE = 8
"""Images a thread works on at once, as in training."""

SHAPES = (
    (64, 64, 3, 32),
    (64, 64, 32, 32),
    (64, 32, 32, 64),
    (64, 32, 64, 64),
    (64, 16, 64, 128),
    (64, 16, 128, 128),
    (64, 8, 256, 256),
    (16, 224, 3, 32),
    (16, 224, 32, 32),
    (16, 112, 64, 64),
)
"""Batch, side, channels and filters of the 3×3 convolutions that are timed."""
QUICK = (0, 1, 3, 5)
"""Which of them a quick measurement takes."""
QUICK_STARTERS = ("three blocks", "residual")
"""Starting networks of which a quick measurement trains an epoch."""
IMAGES = 320
"""Training images of an epoch that is measured."""


class Sampler:
    """Times work against the peak.

    Parameters
    ----------
    thread_pool : ThreadPool
        Whose threads are measured.
    samples : int
        Ratios of each figure.
    """

    def __init__(self, thread_pool: ThreadPool, samples: int) -> None:
        self.thread_pool, self.samples = thread_pool, samples
        random = np.random.default_rng(0)
        self._factors = [random.standard_normal((SIDE, SIDE), np.float32) for _ in range(2 * thread_pool.threads)]
        self._products = [np.empty((SIDE, SIDE), np.float32) for _ in range(thread_pool.threads)]
        self.peaks: list[float] = []

    def peak(self) -> float:
        """Multiply-adds a second."""

        def product(k: int) -> None:
            np.dot(self._factors[2 * k], self._factors[2 * k + 1], out=self._products[k])

        start = time.perf_counter()
        self.thread_pool.each(product, self.thread_pool.threads)
        self.peaks.append(self.thread_pool.threads * SIDE**3 / (time.perf_counter() - start))
        return self.peaks[-1]

    def middle_peak(self) -> float:
        """The median of three peaks."""
        return statistics.median(self.peak() for _ in range(3))

    def ratio(self, what: str, work: Callable[[], object], multiply_adds: float, kernel: str = "") -> Figure:
        """Time some work; it is done until it takes a twentieth of a second."""
        work()
        start = time.perf_counter()
        work()
        times = max(1, round(0.05 / max(1e-6, time.perf_counter() - start)))
        ratios: list[float] = []
        dropped = 0
        before = self.peak()
        while len(ratios) < self.samples and dropped < 3 * self.samples:
            stolen = _stolen()
            start = time.perf_counter()
            for _ in range(times):
                work()
            rate = times * multiply_adds / (time.perf_counter() - start)
            after = self.peak()
            if _stolen() > stolen:
                dropped += 1
            else:
                ratios.append(rate / ((before + after) / 2))
            before = after
        if not ratios:
            return Figure(what, None, None, None, 0, dropped, kernel)
        return Figure(what, statistics.median(ratios), min(ratios), max(ratios), len(ratios), dropped, kernel)


def reference(normalised: bool = False) -> NetworkPlan:
    """The network whose step is measured: 32-32, 64-64, 128-128 filters between poolings, 128 units, six answers."""
    layers: list[LayerSettings] = []
    for filters in (32, 64, 128):
        for _ in range(2):
            layers.append(Convolution(filters=filters))
            if normalised:
                layers.append(BatchNormalisation())
            layers.append(Relu())
        layers.append(MaxPooling())
    return NetworkPlan.stack([*layers, Flatten(), Connected(units=128), Relu(), Output()]).with_outputs(6)


def large() -> NetworkPlan:
    """Twelve convolutions for 224×224 pixels."""
    layers: list[LayerSettings] = []
    for filters in (32, 64, 128, 128):
        layers += [layer for _ in range(3) for layer in (Convolution(filters=filters), Relu())]
        layers.append(MaxPooling())
    return NetworkPlan.stack([*layers, GlobalPooling(), Output()]).with_outputs(6)


def measure(threads: int, quick: bool, kernels: str = "auto") -> Job[Measured]:
    """The whole table: convolutions forward and both gradients, training steps, inference, a saliency map, memory.

    And an epoch of every starting network, as a user trains it: `measuring_epochs`.

    Parameters
    ----------
    threads : int
        Used at once, 1 or more.
    quick : bool
        Fewer shapes and samples.
    kernels : str
        As in a plan.
    """
    samples = 5 if quick else 15
    figures: list[Figure] = []
    with ThreadPool(threads) as thread_pool:
        sampler = Sampler(thread_pool, samples)
        shapes = [SHAPES[k] for k in QUICK] if quick else list(SHAPES)
        starters = QUICK_STARTERS if quick else tuple(STARTERS)
        cases = list(CASES)[: 2 if quick else None]
        works = len(shapes) + len(cases) + len(starters)
        for number, (n, side, channels, filters) in enumerate(shapes):
            yield Progress(number, works, f"timing {side}×{side}, {channels} → {filters}")
            figures += _convolution(sampler, n, side, channels, filters, kernels)
        memory: dict[str, Held | None] = {}
        for number, name in enumerate(cases):
            yield Progress(len(shapes) + number, works, f"timing the {name}")
            plan, batch, side = CASES[name]
            figures += _network(sampler, name, plan(), batch, side, kernels)
            memory[name] = _memory(name, threads, kernels)
        epochs = []
        for number, name in enumerate(starters):
            request = Plan().changed({"network": name, "training.threads": threads, "training.kernels": kernels})
            yield Progress(len(shapes) + len(cases) + number, works, f"training {name}")
            epochs.append(epoch_of(name, request, IMAGES, 1 if quick else 3, sampler.middle_peak))
        peaks = sampler.peaks
        whole = (min(peaks), max(peaks))
        return Measured(threads, statistics.median(peaks), whole, tuple(figures), memory, tuple(epochs))


def _convolution(sampler: Sampler, n: int, side: int, channels: int, filters: int, kernels: str) -> Iterator[Figure]:
    random = np.random.default_rng(1)
    settings = Convolution(filters=filters)
    layer = LAYERS["convolution"]("measured", settings)
    layer.kernels = kernels
    shape = (side, side, channels)
    weights = layer.start(shape, random, np.dtype(np.float32), He())
    pieces = -(-n // PIECE)
    images = [random.standard_normal((PIECE, *shape), np.float32) for _ in range(pieces)]
    grads = [random.standard_normal((PIECE, side, side, filters), np.float32) for _ in range(pieces)]
    cost = pieces * PIECE * settings.multiply_adds(shape)
    kernel = layer.kernel(shape) or ""

    call = Call(activate=True, ready=layer.prepare(weights, shape))
    saved = [layer.forward(shard, weights, call)[1] for shard in images]

    def forward() -> None:
        ready = replace(call, ready=layer.prepare(weights, shape))

        def piece(k: int) -> None:
            layer.forward(images[k], weights, ready)  # let go at once, as a step does piece by piece

        sampler.thread_pool.each(piece, pieces)

    what = f"3×3 {channels} → {filters} at {side}×{side}"
    yield sampler.ratio(f"{what}, forward with bias and ReLU", forward, cost, kernel)
    for words, inputs, parameters in (("gradient of inputs", True, False), ("gradient of weights", False, True)):
        if inputs and channels == 3:
            continue

        def back(inputs: bool = inputs, parameters: bool = parameters) -> None:
            sampler.thread_pool.each(lambda k: layer.backward(grads[k], saved[k], weights, inputs, parameters), pieces)

        yield sampler.ratio(f"{what}, {words}", back, cost, kernel)


def _network(sampler: Sampler, name: str, plan: NetworkPlan, batch: int, side: int, kernels: str) -> Iterator[Figure]:
    random = np.random.default_rng(2)
    shape = (side, side, 3)
    network = Network.start(plan, shape, 7, kernels=kernels)
    cost = sum(fact.multiply_adds for fact in plan.facts(shape))
    first = plan.facts(shape)[0].multiply_adds
    images = random.standard_normal((batch, *shape), np.float32)
    targets = one_hot(random.integers(0, 6, batch), 6)
    route = network.route(frozenset(network.weights))
    rule = AdamOptimiser(Adam())

    def step() -> None:
        result = learn(network, images, targets, route, StepContext(7, 0, 0, 0), sampler.thread_pool)
        rule.step(network.weights, result.gradients)
        network.absorb(result.sums)

    yield sampler.ratio(f"{name}, training step", step, batch * (3 * cost - first))
    light = folded(network)
    yield sampler.ratio(f"{name}, inference", lambda: inference(light, images, sampler.thread_pool), batch * cost)
    back = network.route(image=True)

    def saliency() -> None:
        trace = network.forward(images[:1], route=back)
        network.backward(trace, {network.output: targets[:1]}, back)

    alone = sampler.ratio(f"{name}, one image forward", lambda: network.forward(images[:1]), cost)
    yield alone
    yield sampler.ratio(f"{name}, one image's gradient map", saliency, 2 * cost)


def _memory(name: str, threads: int, kernels: str) -> Held | None:
    """Growth of a process of its own while two steps are trained, in MB, and as a ratio to what a step must hold."""
    words = f"from attentive_lens.desk.measuring.engine import weigh; weigh({name!r}, {threads}, {kernels!r})"
    try:
        finished = subprocess.run([sys.executable, "-c", words], capture_output=True, check=True, text=True)  # noqa: S603
    except (OSError, subprocess.CalledProcessError):
        return None
    plan, batch, side = CASES[name]
    facts, arrays = plan().facts((side, side, 3)), 2 + Adam().state_arrays
    needed = 4 * sum(fact.weights * arrays + batch * fact.numbers for fact in facts) / 1e6
    grown = float(finished.stdout)
    return Held(grown, needed, grown / needed)


def weigh(name: str, threads: int, kernels: str) -> None:
    """Write to the standard output by how many MB this process grew while it trained two steps."""
    plan, batch, side = CASES[name]
    random = np.random.default_rng(2)
    with ThreadPool(threads) as thread_pool:
        tiny = Network.start(reference(), (16, 16, 3), 7, kernels=kernels)
        few = np.zeros((PIECE, 16, 16, 3), np.float32)
        targets_shard = one_hot(np.zeros(PIECE, np.int64), 6)
        learn(tiny, few, targets_shard, tiny.route(frozenset(tiny.weights)), StepContext(7, 0, 0, 0), thread_pool)
        images = random.standard_normal((batch, side, side, 3), np.float32)
        before = psutil.Process().memory_info().rss
        network = Network.start(plan(), (side, side, 3), 7, kernels=kernels)
        route, rule = network.route(frozenset(network.weights)), AdamOptimiser(Adam())
        targets = one_hot(random.integers(0, 6, batch), 6)
        for number in range(2):
            result = learn(network, images, targets, route, StepContext(7, 0, number, 0), thread_pool)
            rule.step(network.weights, result.gradients)
            network.absorb(result.sums)
        status = Path("/proc/self/status").read_text()  # the process's own peak; the usual figure has its parent's
        most = 1024 * int(status.split("VmHWM:")[1].split()[0])
    sys.stdout.write(f"{(most - before) / 1e6}\n")


def _stolen() -> int:
    """Ticks that the machine below gave to others so far; 0 where it does not say."""
    try:
        return int(Path("/proc/stat").read_text().split("\n", 1)[0].split()[8])
    except (OSError, ValueError, IndexError):
        return 0


CASES: dict[str, tuple[Callable[[], NetworkPlan], int, int]] = {
    "reference network": (reference, 64, 64),
    "with batch normalisation": (partial(reference, True), 64, 64),
    "twelve convolutions": (large, 16, 224),
}
"""Networks that are measured: plan, batch, side."""
