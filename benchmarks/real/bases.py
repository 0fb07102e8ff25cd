"""What does a base bring where labels are few, on the pollen station and on real pictures?

On each set, with few labelled images (20 a class of the pollen station, a tenth of the labels of the real sets), three
ways are gone with the same network: from new weights with three learning rates, of which the best on the test set
counts; on the base, frozen; on the base, all layers learning on. Printed are test accuracies, their means over the
seeds, and seconds of training as multiples of the frozen way's.

    python benchmarks/real/bases.py MODEL SETS WORK [SET ...] [--seeds 1 2 3 4 5] [--until LAYER]
"""

from __future__ import annotations

import argparse
import os
import re
import shutil
import time
from dataclasses import dataclass, replace
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

from attentive_lens.core.jobs import finish
from attentive_lens.core.random import random_generator
from attentive_lens.demo.station import make
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.network.bases import with_base, without_base
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.plan.augmentation import Brightness, Flip, Rotate, Translate
from attentive_lens.plan.base import Base
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace

POLLEN = "pollen"
LABELS, TEST, TESTED, SHARE = 20, 0.3, 900, 0.1
RATES = (0.0003, 0.001, 0.003)
TOGETHER = {"materials": r"_t\d+$", "symbols": r"-\d+$"}
"""What is left out of the names of pictures that belong together."""
STEPS, FEWEST, MOST, BATCH = 500, 20, 60, 16
"""Of a training: about so many steps, in so many epochs, of batches of so many images."""
VARIANTS = 8


@dataclass(frozen=True)
class Result:
    """Test accuracy, and seconds of training."""

    accuracy: float
    seconds: float


def copied(files: list[Path], folder: Path) -> None:
    for file in files:
        (folder / file.parent.name).mkdir(parents=True, exist_ok=True)
        shutil.copy(file, folder / file.parent.name / f"{file.parent.parent.name}-{file.name}")


def parted(name: str, sets: Path, work: Path, seed: int) -> Path:
    """Pictures of a set as folders of training and test images, what belongs together in one of them."""
    folder = work / f"{name}-{seed}-images"
    if folder.exists():
        return folder
    rng = random_generator(seed, f"parted {name}")
    half = folder.with_suffix(".half")
    shutil.rmtree(half, ignore_errors=True)
    if name == POLLEN:
        source = work / f"station-{seed}"
        finish(make(source, 1800, seed))
        files = sorted((source / "images").rglob("*.png"))
        parts = {file: float("test" in file.parts) for file in files}
        training, tested = ([f for f in files if parts[f] == side] for side in (0, 1))
    else:
        files = sorted((sets / name).glob("*/*.png"))
        units = {f: (f.parent.name, re.sub(TOGETHER.get(name, "$^"), "", f.stem)) for f in files}
        drawn = {unit: rng.random() for unit in sorted(set(units.values()))}
        training, tested = ([f for f in files if (drawn[units[f]] < TEST) == side] for side in (False, True))
    order = {file: rng.random() for file in files}
    few: list[Path] = []
    for kind in sorted({file.parent.name for file in training}):
        own = sorted((f for f in training if f.parent.name == kind), key=order.__getitem__)
        few += own[: LABELS if name == POLLEN else max(2, round(SHARE * len(own)))]
    copied(few, half / "training")
    copied(sorted(tested, key=order.__getitem__)[:TESTED], half / "test")
    half.rename(folder)
    return folder


def judged(workspace: Workspace, plan: Plan) -> Result:
    run = workspace.claim_run(plan)
    began = time.perf_counter()
    finish(execute(workspace, run, lambda: False))
    seconds = time.perf_counter() - began
    return Result(finish(carry_out(Score(str(workspace.folder), run.number, "test"))).accuracy, seconds)


def planned(workspace: Workspace, model: Path, until: str, statistics: str, seed: int) -> Plan:
    """What is compared, built on the base."""
    changes = (Flip(), Rotate(range=(-15.0, 15.0)), Translate(), Brightness())
    images = collection(workspace, Plan().changed({"split.validation_fraction": 0})).count("training")
    epochs = max(FEWEST, min(MOST, STEPS * BATCH // images))
    usual = replace(Plan(), seed=seed, augmentation=changes).changed(
        {
            "training.epochs": epochs,
            "training.batch_size": BATCH,
            "training.threads": 1,
            "split.validation_fraction": 0,
            "schedule": "cosine",
        }
    )
    return with_base(workspace, usual, Base(until=until, model=str(model.resolve()), statistics=statistics))


def ways(workspace: Workspace, based: Plan, quick: bool) -> dict[str, Result]:
    """By way: its result; of new weights the best rate's."""
    frozen = based.changed({"training.augmentation_variants": VARIANTS, "optimiser.learning_rate": 0.003})
    results = {"frozen": judged(workspace, frozen)}
    learning = based.changed({"base.frozen": False, "optimiser.learning_rate": 0.0005})
    results["learning on"] = judged(workspace, learning)
    if not quick:
        tries = [judged(workspace, without_base(based).changed({"optimiser.learning_rate": rate})) for rate in RATES]
        results["new weights"] = max(tries, key=lambda result: result.accuracy)
    return results


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("model", type=Path)
    parser.add_argument("sets", type=Path)
    parser.add_argument("work", type=Path)
    parser.add_argument("names", nargs="*", default=[POLLEN])
    parser.add_argument("--seeds", nargs="+", type=int, default=[1, 2, 3, 4, 5])
    parser.add_argument("--until", default="")
    parser.add_argument("--statistics", default="training images", choices=("training images", "base"))
    parser.add_argument("--quick", action="store_true", help="no training from new weights")
    words = parser.parse_args()
    for name in words.names:
        tables: list[dict[str, Result]] = []
        for seed in words.seeds:
            images = parted(name, words.sets, words.work, seed)
            folder = words.work / f"{name}-{seed}-{words.model.stem}"
            shutil.rmtree(folder, ignore_errors=True)
            workspace = finish(make_workspace(folder, images)).workspace
            based = planned(workspace, words.model, words.until, words.statistics, seed)
            results = ways(workspace, based, words.quick)
            tables.append(results)
            line = ", ".join(f"{way} {100 * result.accuracy:.1f}" for way, result in results.items())
            print(f"  {name}, seed {seed}: {line}", flush=True)
        for way in tables[0]:
            accuracies = [100 * table[way].accuracy for table in tables]
            times = np.median([table[way].seconds / table["frozen"].seconds for table in tables])
            print(f"{name}, {way}: {np.mean(accuracies):.1f} (deviation {np.std(accuracies):.1f}),"
                  f" {times:.1f} times the frozen way's seconds", flush=True)  # fmt: skip


if __name__ == "__main__":
    main()
