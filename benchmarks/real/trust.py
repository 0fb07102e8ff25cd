"""How many maps of real pictures pass the test of trust, by method, and how many random maps do.

Needs a workspace with a trained run for each set, made with `attentive-lens new` and `train`. For sure mistakes and
sure right answers of the validation images each method's map for *said* is put to the test; so is a random map.

    python benchmarks/real/trust.py WORKSPACE ... [--images 24] [--methods gradient_times_input occlusion]
"""

from __future__ import annotations

import argparse
import os
import time
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from scipy.ndimage import gaussian_filter

from attentive_lens.core.jobs import finish
from attentive_lens.core.random import random_generator
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.results.models import model_and_data
from attentive_lens.desk.tasks import carry_out
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import LensError
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency import METHODS, map_method
from attentive_lens.explaining.trust import SMOOTH, curves
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Workspace

SURE = 0.6


def chosen(workspace: Path, images: int) -> dict[str, list[int]]:
    """Numbers of images the run surely answers wrongly and rightly, spread over all of them."""
    scores = finish(carry_out(Score(str(workspace), 1, "validation")))
    parts = {
        "mistakes": [a.image for a in scores.answers if a.predicted != a.true and a.probability > SURE],
        "right": [a.image for a in scores.answers if a.predicted == a.true and a.probability > SURE],
    }
    return {
        name: [numbers[k * len(numbers) // min(images, len(numbers))] for k in range(min(images, len(numbers)))]
        for name, numbers in parts.items()
    }


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("workspaces", nargs="+", type=Path)
    parser.add_argument("--images", type=int, default=24)
    parser.add_argument("--methods", nargs="+", default=[key for key, own in METHODS.items() if not own.facts.slow])
    words = parser.parse_args()
    for workspace in words.workspaces:
        place = Workspace.open(workspace)
        model, data = finish(model_and_data(place, place.run(1)))
        groups = chosen(workspace, words.images)
        print(f"{workspace.name}: {', '.join(f'{len(own)} {name}' for name, own in groups.items())}", flush=True)
        with ThreadPool(2) as thread_pool:
            probe = Probe(Predictor.of(model, thread_pool))
            for key in [*words.methods, "random"]:
                began, line = time.perf_counter(), []
                for name, numbers in groups.items():
                    verdicts = []
                    for number in numbers:
                        image = probe.predictor.prepare(data.pixels[data.place(number)][None])[0]
                        predicted = int(probe.predicted(probe.scores(image[None]))[0])
                        if key == "random":
                            noise = random_generator(7, "random map", number).standard_normal(image.shape[:2])
                            maps = gaussian_filter(noise, SMOOTH / 2)[None].astype(np.float32)
                        else:
                            try:
                                maps = map_method(key).maps(probe, image, Targets.classes([predicted], probe.classes))
                            except LensError:
                                continue
                        verdicts.append(curves(probe, image, maps, [predicted])[0])
                    result = [own.passed for own in verdicts if own.passed is not None]
                    halves = [
                        np.mean([bool(half and half.passed) for half in part] or [0])
                        for part in ([own.deletion for own in verdicts], [own.insertion for own in verdicts])
                    ]
                    line.append(
                        f"{name} {np.mean(result or [0]):4.0%} (deletion {halves[0]:4.0%}, insertion {halves[1]:4.0%})"
                    )
                spent = (time.perf_counter() - began) / max(1, sum(map(len, groups.values())))
                print(f"  {key:28} {'; '.join(line)}; {1000 * spent:.0f} ms a map", flush=True)


if __name__ == "__main__":
    main()
