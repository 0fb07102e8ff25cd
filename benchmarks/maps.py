"""How long explanations take, beside one forward pass of the same network in the same run, on two threads.

The reference network at 64×64 and one of twelve convolutions at 224×224, with starting weights: what a map costs does
not depend on what was learned.

    python benchmarks/maps.py [--samples 5]
"""

from __future__ import annotations

import argparse
import os
import statistics
import time
from collections.abc import Callable
from functools import partial

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

from attentive_lens.desk.measuring.engine import large, reference
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.explaining.channels import Excitement
from attentive_lens.explaining.feature_maps import feature_maps
from attentive_lens.explaining.probe import Probe, contrast_targets
from attentive_lens.explaining.saliency import METHODS, map_method
from attentive_lens.explaining.trust import blank, gains, rivals_of, stability
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.predicting import Predictor

PAIRS = [(0, 1), (1, 0)]
"""Each map is of a class against another."""


def seconds(work: Callable[[], object], samples: int) -> float:
    work()
    result = []
    for _ in range(samples):
        start = time.perf_counter()
        work()
        result.append(time.perf_counter() - start)
    return statistics.median(result)


def measure(name: str, plan: NetworkPlan, side: int, samples: int) -> None:
    network = Network.start(plan, (side, side, 3), 7)
    image = np.random.default_rng(0).standard_normal((side, side, 3), np.float32)
    one = seconds(lambda: network.forward(image[None]), samples)
    print(f"{name} at {side}×{side}: one image forward {1000 * one:.1f} ms")

    def summary(what: str, work: Callable[[], object], times: int) -> None:
        spent = seconds(work, times)
        print(f"  {what:44} {1000 * spent:8.0f} ms, {spent / one:6.0f} forward passes", flush=True)

    with ThreadPool(2) as thread_pool:
        preprocessor = Preprocessor.plain(Preprocessing(input_size=side))
        predictor = Predictor(network, preprocessor, tuple("abcdef"), thread_pool=thread_pool)
        probe, request = Probe(predictor), contrast_targets(PAIRS, 6)
        for key in METHODS:
            summary(key, partial(map_method(key).maps, probe, image, request), samples if side == 64 else 1)
        first = map_method("gradient_times_input")

        def trusted() -> None:
            maps = first.maps(probe, image, request)
            gains(probe, image, maps, PAIRS, rivals_of(first, probe, image, request, maps, blank(probe)))
            stability(first, probe, image, request, maps)

        summary("gradient × input with its gain and stability", trusted, 1)
        summary(
            "feature maps of all layers",
            lambda: feature_maps(network, image, [node.name for node in plan.nodes]),
            samples,
        )
        if side > 64:
            return
        many = np.random.default_rng(1).standard_normal((64, side, side, 3), np.float32)

        def patches() -> None:
            collected = Excitement(9)
            for _ in range(2000 // 64):
                collected.add(probe.outputs("relu 4", many))
            collected.strongest()

        summary("patches of every filter over 2 000 images", patches, 1)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--samples", type=int, default=5)
    words = parser.parse_args()
    measure("reference network", reference(), 64, words.samples)
    measure("twelve convolutions", large(), 224, words.samples)


if __name__ == "__main__":
    main()
