"""Are pictures of another set told from those a model was trained on?

On every set of `sets.py` the plan that a new workspace begins with is trained; its held-out pictures and those of every
other set are then as far from the training images as the program says (`desk/results/familiar.py`: channels' means and
deviations, the three nearest). Printed for each pair: the area under the curve of other against own pictures, and how
many of the others lie beyond the limit that 98 % of the validation images keep to; the same by plain features, which
need no run; and how many own pictures lie beyond it.

    python benchmarks/real/unlike.py SETS WORK [SET ...]
"""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from following import place_for, trained
from scipy.stats import mannwhitneyu

from attentive_lens.core.jobs import finish
from attentive_lens.desk.network.usual import usual_plan
from attentive_lens.desk.results.familiar import familiar
from attentive_lens.desk.results.models import model_and_data
from attentive_lens.explaining.causes.base import NEAREST, USUAL
from attentive_lens.explaining.channel_statistics import Known, channel_statistics
from attentive_lens.images.decoding import decode
from attentive_lens.images.fixed_features import fixed_features
from attentive_lens.images.preprocessing import resized
from attentive_lens.predicting import Predictor

SETS = ["materials", "symbols", "planets", "laboratory", "terrain", "head"]
MOST = 250
GOOD = 0.9

Distance = Callable[[np.ndarray], np.ndarray]


def pictures(work: Path, name: str, part: str, most: int) -> list[np.ndarray]:
    files = sorted((work / "images" / name / part).glob("*/*.png"))
    return [decode(file).pixels for file in files[:: max(1, len(files) // most)][:most]]


def by_plain_features(training: np.ndarray, validation: np.ndarray) -> Distance:
    """As part of the limit, as `Familiar.unlikeness` gives it."""
    known = Known.of(fixed_features(training))

    def mean(pixels: np.ndarray) -> np.ndarray:
        return known.nearest(fixed_features(pixels), NEAREST)[1].mean(axis=1)

    limit = float(np.quantile(mean(validation), USUAL))
    return lambda pixels: mean(pixels) / limit


def distances(sets: Path, work: Path, name: str) -> tuple[Callable[[list[np.ndarray]], np.ndarray], Distance, Distance]:
    """How a set's pictures become pixels, and how far pixels lie by a run and by plain features."""
    workspace = place_for(sets, work, name, "unlike", 1)
    plan = replace(usual_plan(workspace).changed({"training.threads": 1}), seed=1)
    runs = workspace.runs()
    run = runs[0] if runs else trained(workspace, plan)
    model, _ = finish(model_and_data(workspace, run))
    predictor, settings = Predictor.of(model, None), model.preprocessor.settings
    known = finish(familiar(workspace, run))

    def pixels(shown: list[np.ndarray]) -> np.ndarray:
        return np.stack([resized(picture, settings) for picture in shown])

    def by_run(shown: np.ndarray) -> np.ndarray:
        return known.unlikeness(channel_statistics(predictor, predictor.prepare(shown)))[0]

    training, validation = (pixels(pictures(work, name, part, 2000)) for part in ("training", "validation"))
    return pixels, by_run, by_plain_features(training, validation)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("sets", type=Path)
    parser.add_argument("work", type=Path)
    parser.add_argument(
        "names", nargs="*", default=["materials", "symbols", "planets", "laboratory", "terrain", "head"]
    )
    words = parser.parse_args()
    ways = {name: distances(words.sets, words.work, name) for name in words.names}
    shown = {name: pictures(words.work, name, "test", MOST) for name in words.names}
    areas: dict[str, list[float]] = {"by the run": [], "by plain features": []}
    for name, (pixels, *far) in ways.items():
        for way, distance in zip(areas, far, strict=True):
            own, parts = distance(pixels(shown[name])), []
            for other in (each for each in words.names if each != name):
                strange = distance(pixels(shown[other]))
                area = float(mannwhitneyu(strange, own).statistic) / (len(strange) * len(own))
                areas[way].append(area)
                parts.append(f"{other} {area:.2f} {(strange > 1).mean():.0%}")
            print(f"{name}, {way}: {', '.join(parts)}; own beyond {(own > 1).mean():.1%}", flush=True)
    for way, values in areas.items():
        print(f"{way}: area at least {GOOD} on {sum(value >= GOOD for value in values)} of {len(values)} pairs")


if __name__ == "__main__":
    main()
