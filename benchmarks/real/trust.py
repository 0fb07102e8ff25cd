"""How many maps of real pictures pass the test of trust, by method, and how many of those that must not.

Needs a workspace with a trained run for each set, made with `attentive-lens new` and `train`. For sure mistakes and
sure right answers of the validation and test images each method's map for *said* against the next class is put to the
test, and then what knows nothing of the answer, as if it were the usual method's map: the map for the next class,
the usual method's on a network with other starting weights than the test takes, edges under a little noise, a blob
beside the middle, a random map. Sets that are named after --shuffled are networks trained on shuffled labels: all of
their maps must not pass, and their images are taken however sure they are.

    python benchmarks/real/trust.py WORKSPACE ... [--shuffled WORKSPACE ...] [--images 30] [--methods occlusion ...]
"""

from __future__ import annotations

import argparse
import os
import time
from collections import defaultdict
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from scipy.ndimage import gaussian_filter, sobel

from attentive_lens.core.jobs import finish
from attentive_lens.core.random import random_generator
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.results.models import model_and_data
from attentive_lens.desk.tasks import carry_out
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import LensError, NotHere
from attentive_lens.explaining.methods import DEFAULT, MAP_METHODS
from attentive_lens.explaining.probe import Probe, contrast_targets, contrasts
from attentive_lens.explaining.saliency import map_method
from attentive_lens.explaining.trust import SMOOTH, blank, gains, rivals_of
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Workspace

SURE = 0.6
WORDS = {True: "pass", False: "fail", None: "cannot be told"}


def chosen(workspace: Path, images: int, sure: float) -> dict[str, list[int]]:
    """Numbers of images the run surely answers wrongly and rightly, spread over all of them."""
    parts: dict[str, list[int]] = {"mistakes": [], "right": []}
    for on in ("validation", "test"):
        try:
            scores = finish(carry_out(Score(str(workspace), 1, on)))
        except NotHere:
            continue
        for answer in scores.answers:
            if answer.probability > sure:
                parts["right" if answer.predicted == answer.true else "mistakes"].append(answer.image)
    return {
        name: [numbers[k * len(numbers) // min(images, len(numbers))] for k in range(min(images, len(numbers)))]
        for name, numbers in parts.items()
    }


def impostors(image: np.ndarray, number: int) -> dict[str, np.ndarray]:
    """Maps that know nothing of any answer, H×W."""
    height, width = image.shape[:2]
    random = random_generator(7, "random map", number)
    grey = image.mean(axis=2) + 0.02 * np.ptp(image) * random.standard_normal((height, width))
    down, across = np.mgrid[0:height, 0:width] / max(height, width) - random.uniform(0.4, 0.6)
    return {
        "random map": gaussian_filter(random.standard_normal((height, width)), SMOOTH / 2),
        "edges": np.hypot(sobel(grey, axis=0), sobel(grey, axis=1)),
        "blob": np.exp(-8 * (down**2 + across**2)),
    }


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("workspaces", nargs="*", type=Path)
    parser.add_argument("--shuffled", nargs="+", type=Path, default=[])
    parser.add_argument("--images", type=int, default=30)
    parser.add_argument("--methods", nargs="+", default=[key for key, own in MAP_METHODS.items() if not own.slow])
    words = parser.parse_args()
    for workspace in (*words.workspaces, *words.shuffled):
        place = Workspace.open(workspace)
        model, data = finish(model_and_data(place, place.run(1)))
        groups = chosen(workspace, words.images, 0.0 if workspace in words.shuffled else SURE)
        print(f"{workspace.name}: {', '.join(f'{len(own)} {name}' for name, own in groups.items())}", flush=True)
        verdicts: dict[str, dict[str, list[bool | None]]] = defaultdict(lambda: defaultdict(list))
        spent: dict[str, float] = defaultdict(float)
        with ThreadPool(2) as thread_pool:
            probe = Probe(Predictor.of(model, thread_pool))
            empty, other_weights = blank(probe), blank(probe, seed=99)
            for name, numbers in groups.items():
                for number in numbers:
                    image = probe.predictor.prepare(data.pixels[data.place(number)][None])[0]
                    scores = probe.scores(image[None])[0]
                    pairs = contrasts(scores, [int(probe.predicted(scores[None])[0])])
                    targets = contrast_targets(pairs, probe.classes)
                    for key in words.methods:
                        began, method = time.perf_counter(), map_method(key)
                        try:
                            maps = method.maps(probe, image, targets)
                            rivals = rivals_of(method, probe, image, targets, maps, empty)
                        except LensError:
                            continue
                        verdicts[key][name].append(gains(probe, image, maps, pairs, rivals)[0].passed)
                        spent[key] += time.perf_counter() - began
                    usual = map_method(DEFAULT.kind)
                    maps = usual.maps(probe, image, targets)
                    rivals = rivals_of(usual, probe, image, targets, maps, empty)
                    runner_up = [(pairs[0][1], pairs[0][0])]
                    third = contrasts(scores, [pairs[0][1]]) if probe.classes == 2 else [
                        (pairs[0][1], int(np.argsort(-scores)[2]))
                    ]  # fmt: skip

                    def of_pair(pair: list[tuple[int, int]], image: np.ndarray = image) -> np.ndarray:
                        return usual.maps(probe, image, contrast_targets(pair, probe.classes))[0]  # noqa: B023

                    tried = {
                        **impostors(image, number),
                        "next class, against said": of_pair(runner_up),
                        "next class, against the third": of_pair(third),
                        "other starting weights": np.nan_to_num(usual.maps(other_weights, image, targets)[0]),
                    }  # fmt: skip
                    every = np.stack(list(tried.values())).astype(np.float32)
                    results = gains(probe, image, every, pairs * len(every), rivals * len(every))
                    for what, gain in zip(tried, results, strict=True):
                        verdicts[f"  not: {what}"][name].append(gain.passed)
        for key, by_name in verdicts.items():
            shares = [
                f"{name} " + ", ".join(f"{WORDS[word]} {np.mean([v is word for v in own]):.0%}" for word in WORDS)
                for name, own in by_name.items()
            ]
            a_map = f"; {1000 * spent[key] / sum(map(len, by_name.values())):.0f} ms a map" if key in spent else ""
            print(f"  {key:32} {'; '.join(shares)}{a_map}", flush=True)


if __name__ == "__main__":
    main()
