"""Does the demo show what it is for? Trains the default plan on the pollen station and measures against its answer key.

Prints, for each seed: training time, accuracy on clean validation images, accuracy on test images with and without
the ink dot, and where the gradient map for *said* has its peak on the images the dot misled.

    python benchmarks/station.py [--images 1800] [--seeds 0 1] [--json]
"""

from __future__ import annotations

import argparse
import json
import os
import tempfile
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from scipy.ndimage import binary_dilation, gaussian_filter

from attentive_lens.core.jobs import finish
from attentive_lens.demo.slide import GRAIN, MARK
from attentive_lens.demo.station import MARKED_TYPE, read_key
from attentive_lens.desk.making import make_demo
from attentive_lens.desk.requests.explaining import Explain
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.explaining.methods import MAP_METHODS
from attentive_lens.explaining.saliency import METHODS
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Run

REACH = 4
"""Pixels round the dot that still count as on it: a gradient is greatest at an edge, to either side of it."""
SMOOTH = 1.5
"""Standard deviation, in pixels, of the smoothing before a peak is looked for."""


def measure(images: int, seed: int, folder: Path) -> dict[str, float]:
    made = finish(make_demo(folder, images, seed))
    workspace = made.workspace
    run = workspace.claim_run(Plan())
    outcome = finish(execute(workspace, run, lambda: False)).outcome
    rows, masks = read_key(folder)
    facts = {f"images/{row.file}": (row, mask) for row, mask in zip(rows, masks, strict=False)}
    files = {row.number: row.file for row in made.collection.rows}
    validation = finish(carry_out(Score(str(folder), run.number, "validation")))
    test = finish(carry_out(Score(str(folder), run.number, "test")))
    clean = [a for a in validation.answers if "wrong label" not in facts[files[a.image]][0].faults]
    marked = [a for a in test.answers if "mark" in facts[files[a.image]][0].faults]
    plain = [a for a in test.answers if "mark" not in facts[files[a.image]][0].faults]
    spiny = test.classes.index(MARKED_TYPE)
    victims = [a for a in marked if a.predicted == spiny]
    result = {key: [0, 0] for key in METHODS}
    area = []
    for answer in victims:
        mask = facts[files[answer.image]][1]
        dot = binary_dilation(mask & MARK > 0, iterations=REACH)
        area.append(float(dot.mean()))
        for method, counts in result.items():
            map_ = (
                finish(carry_out(Explain(RunImage(str(folder), run.number, answer.image), MAP_METHODS[method]())))
                .maps[0]
                .values
            )
            peak = np.unravel_index(gaussian_filter(map_, SMOOTH).argmax(), map_.shape)
            counts[0] += bool(dot[peak])
            counts[1] += bool(mask[peak] & GRAIN)
    peaks = {
        f"{method}: peak on the {place}": round(counts[k] / max(1, len(victims)), 3)
        for method, counts in result.items()
        for k, place in enumerate(("dot", "grain"))
    }
    return {
        "seed": seed,
        "training seconds": round(outcome.seconds, 1),
        "epochs": outcome.epochs,
        "seconds to 85 % validation": seconds_to(0.85, run),
        "clean validation accuracy": share_right(clean),
        "test accuracy without dot": share_right(plain),
        "test accuracy with dot": share_right(marked),
        "victims": len(victims),
        **peaks,
        "dot's part of the image": round(float(np.mean(area)), 3) if area else 0.0,
    }


def seconds_to(accuracy: float, run: Run) -> float:
    """Training time until the validation accuracy was first reached; 0 if it never was."""
    spent = 0.0
    for epoch in RunReader(run).view().epochs:
        spent += epoch.seconds
        if epoch.validation is not None and epoch.validation.main >= accuracy:
            return round(spent, 1)
    return 0.0


def share_right(answers: list) -> float:  # type: ignore[type-arg]
    return round(sum(a.predicted == a.true for a in answers) / max(1, len(answers)), 4)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--images", type=int, default=1800)
    parser.add_argument("--seeds", type=int, nargs="+", default=[0])
    parser.add_argument("--json", action="store_true")
    words = parser.parse_args()
    for seed in words.seeds:
        with tempfile.TemporaryDirectory() as folder:
            result = measure(words.images, seed, Path(folder) / "station")
        if words.json:
            print(json.dumps(result), flush=True)
        else:
            for key, value in result.items():
                print(f"{key:28} {value}", flush=True)
            print()


if __name__ == "__main__":
    main()
