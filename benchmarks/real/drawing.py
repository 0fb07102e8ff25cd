"""What do networks that draw tell about real pictures?

With --strange: on every set of `sets.py` a variational auto-encoder is trained, and the plan that a new workspace
begins with. Own held-out pictures and those of every other set are told apart by how likely they are (the lower bound),
by how far off they are drawn again, and by what the program goes by (`desk/results/familiar.py`); printed is the area
under the curve of each pair of sets.

With --few: of the training images' labels one in twenty is used. A classifier of the encoder's layers and a new head is
trained on them, the encoder as it learned from all images without labels (learning on) and as it begins (new weights),
each at the best of three learning rates by test accuracy; printed are both, and their difference over the seeds.

    python benchmarks/real/drawing.py SETS WORK [SET ...] (--strange | --few) [--seeds 1 2 3] [--epochs 40] [--size 32]
"""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from following import accuracy, place_for, trained
from scipy.stats import mannwhitneyu
from unlike import MOST, distances, pictures

from attentive_lens.desk.results.models import model_of
from attentive_lens.engine.encoding import Coder
from attentive_lens.engine.likelihoods import shown
from attentive_lens.images.preprocessing import resized
from attentive_lens.plan.base import Base
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Run, Workspace

SETS = ["materials", "symbols", "planets", "laboratory", "terrain", "head"]
RATES = (0.0003, 0.001, 0.003)
SHARE = 0.05
UNTIL = "flatten 1"

Distance = Callable[[np.ndarray], np.ndarray]


def encoded(workspace: Workspace, words: argparse.Namespace, seed: int) -> Run:
    """The workspace's run that draws, trained now if there is none."""
    for run in workspace.runs():
        if run.plan().task.draws and run.plan().seed == seed:
            return run
    settings = {"network": "variational", "preprocessing.input_size": words.size, "training.epochs": words.epochs}
    return trained(workspace, replace(Plan().changed(settings), seed=seed))


def by_drawing(run: Run) -> dict[str, Distance]:
    """How strange pixels are, by the bound and by the drawing."""
    model = model_of(run.model)
    coder = Coder(model.network())

    def looked(pixels: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        targets = model.preprocessor.targets(pixels)
        statistics = coder.encode(model.preprocessor.apply(pixels))
        loss = np.add(*coder.bound(statistics, targets, None))
        gap = shown(coder.drawing, coder.raw(coder.means(statistics))) - targets
        return loss, np.sqrt((gap**2).mean(axis=(1, 2, 3)))

    return {"by the bound": lambda pixels: looked(pixels)[0], "by the drawing": lambda pixels: looked(pixels)[1]}


def strange(words: argparse.Namespace) -> None:
    """Areas under the curve of own against other pictures."""
    areas: dict[str, list[float]] = {}
    places = {name: place_for(words.sets, words.work, name, "unlike", 1) for name in words.names}
    held_out = {name: pictures(words.work, name, "test", MOST) for name in words.names}
    for name in words.names:
        pixels_of, by_run, _ = distances(words.sets, words.work, name)
        run = encoded(places[name], words, 1)
        settings = run.plan().preprocessing
        ways = {"by the run": (pixels_of, by_run)}
        for way, distance in by_drawing(run).items():
            ways[way] = (lambda seen, of=settings: np.stack([resized(picture, of) for picture in seen]), distance)
        for way, (prepared, distance) in ways.items():
            own, parts = distance(prepared(held_out[name])), []
            for other in (each for each in words.names if each != name):
                far = distance(prepared(held_out[other]))
                areas.setdefault(way, []).append(float(mannwhitneyu(far, own).statistic) / (len(far) * len(own)))
                parts.append(f"{other} {areas[way][-1]:.2f}")
            print(f"{name}, {way}: {', '.join(parts)}", flush=True)
    for way, values in areas.items():
        print(f"{way}: mean {np.mean(values):.3f}, at least 0.9 on {sum(v >= 0.9 for v in values)} of {len(values)}")


def few(words: argparse.Namespace) -> None:
    """Test accuracy with one label in twenty."""
    gains = []
    for name in words.names:
        for seed in words.seeds:
            workspace = place_for(words.sets, words.work, name, "few", seed)
            run = encoded(workspace, words, seed)
            encoder = run.plan().network.write()
            nodes = encoder[: 1 + [node["name"] for node in encoder].index(UNTIL)]
            settings = {
                "preprocessing.input_size": words.size,
                "split.subset_fraction": SHARE,
                "split.validation_fraction": 0.0,
                "training.epochs": 8 * words.epochs,
                "training.evaluate_every": 1000,
            }
            plan = replace(Plan().changed(settings), seed=seed)
            plan = Plan.read({**plan.write(), "network": [*nodes, {"layer": "dropout"}, {"layer": "output"}]})
            based = replace(plan, base=Base(run=run.number, until=UNTIL, frozen=False))
            best = {}
            for way, each in {"encoder": based, "new": plan}.items():
                tries = [trained(workspace, each.changed({"optimiser.learning_rate": rate})) for rate in RATES]
                best[way] = max(accuracy(workspace, made, "test") for made in tries)
            gains.append(best["encoder"] - best["new"])
            print(f"{name}, seed {seed}: encoder {best['encoder']:.3f}, new weights {best['new']:.3f}", flush=True)
    error = np.std(gains) / np.sqrt(len(gains))
    print(f"gain {np.mean(gains):+.3f} ± {error:.3f}, better on {sum(g > 0 for g in gains)} of {len(gains)}")


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("sets", type=Path)
    parser.add_argument("work", type=Path)
    parser.add_argument("names", nargs="*", default=SETS)
    parser.add_argument("--strange", action="store_true")
    parser.add_argument("--few", action="store_true")
    parser.add_argument("--seeds", nargs="+", type=int, default=[1, 2, 3])
    parser.add_argument("--epochs", type=int, default=40)
    parser.add_argument("--size", type=int, default=32)
    words = parser.parse_args()
    if words.strange:
        strange(words)
    if words.few:
        few(words)


if __name__ == "__main__":
    main()
