"""Speed of the engine as ratios to the matrix-product peak measured in the same run.

The peak is taken with two threads of ours, each on its own 2048³ float32 product, directly before and after every
sample; a figure is the median of the ratios. Multiply-adds are those of the direct formula.

    python benchmarks/engine.py [--samples 9]
"""

from __future__ import annotations

import argparse
import os
import statistics
import time
from collections.abc import Callable

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

from attentive_lens.engine.batches import learn, scores
from attentive_lens.engine.crew import Crew
from attentive_lens.engine.layers import Moment
from attentive_lens.engine.losses import one_hot
from attentive_lens.engine.network import Network
from attentive_lens.engine.optimisers import Adam
from attentive_lens.plan.settings import Training
from attentive_lens.plan.starters import STARTERS

SIDE = 2048


def peak(crew: Crew, matrices: list[np.ndarray]) -> float:
    """Multiply-adds a second of two threads on their own products."""
    out = [np.empty((SIDE, SIDE), np.float32) for _ in range(2)]
    start = time.perf_counter()
    crew.each(lambda k: np.dot(matrices[2 * k], matrices[2 * k + 1], out=out[k]), 2)
    return 2 * SIDE**3 / (time.perf_counter() - start)


def ratio(work: Callable[[], object], multiply_adds: float, samples: int, crew: Crew) -> tuple[float, float, float]:
    """Median ratio to the peak, and its range."""
    random = np.random.default_rng(0)
    matrices = [random.standard_normal((SIDE, SIDE), np.float32) for _ in range(4)]
    work()
    found = []
    for _ in range(samples):
        before = peak(crew, matrices)
        start = time.perf_counter()
        work()
        rate = multiply_adds / (time.perf_counter() - start)
        found.append(rate / ((before + peak(crew, matrices)) / 2))
    return statistics.median(found), min(found), max(found)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--samples", type=int, default=9)
    words = parser.parse_args()
    random = np.random.default_rng(1)
    images = random.standard_normal((64, 64, 64, 3), np.float32)
    targets = one_hot(random.integers(0, 6, 64), 6)
    with Crew(2) as crew:
        print(f"{'ratio to the product peak, two threads':44} median   range")
        for name, starter in STARTERS.items():
            network = Network.start(starter.network.for_classes(6), (64, 64, 3), 7)
            cost = 64 * sum(f.multiply_adds for f in network.plan.facts((64, 64, 3)))
            route = network.route(frozenset(network.weights))
            optimiser = Adam(Training())

            def step(net: Network = network, way: object = route, rule: Adam = optimiser) -> None:
                found = learn(net, images, targets, way, Moment(7, 0, 0, 0), crew)  # type: ignore[arg-type]
                rule.step(net.weights, found.gradients)

            def answer(net: Network = network) -> None:
                scores(net, images, crew)

            for what, work, factor in (("training step", step, 3), ("inference", answer, 1)):
                middle, low, high = ratio(work, factor * cost, words.samples, crew)
                print(f"{name + ', ' + what:44} {middle:.3f}    {low:.3f}–{high:.3f}")


if __name__ == "__main__":
    main()
