"""What does an epoch on a frozen base cost, whose outputs are kept, against the head alone and reading?

A run of the demo is the base of another, up to the last layer with rows and columns. Printed are the seconds of its
epochs with kept outputs and with outputs computed every time, each over the seconds that its head alone takes for an
epoch on outputs that are in memory, plus reading them from the file.

    python benchmarks/frozen.py [--images 1800]
"""

from __future__ import annotations

import argparse
import os
import statistics
import tempfile
import time
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

from attentive_lens.core.jobs import finish
from attentive_lens.demo.station import make
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.network.bases import with_base
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.formats.reading import read_model
from attentive_lens.images.feeding import Batch
from attentive_lens.plan.base import Base
from attentive_lens.plan.frost import frozen_part
from attentive_lens.plan.plan import Plan
from attentive_lens.training import frozen_outputs
from attentive_lens.training.classifier import Classifier
from attentive_lens.workspace import Workspace

EPOCHS = 6


def epoch_of(workspace: Workspace, plan: Plan) -> float:
    run = workspace.claim_run(plan)
    finish(execute(workspace, run, lambda: False))
    return statistics.median(epoch.seconds for epoch in RunReader(run).view().epochs[1:])


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--images", type=int, default=1800)
    words = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder) / "station"
        workspace = finish(make_workspace(place, finish(make(place, words.images, 7)))).workspace
        for name in ("three blocks", "residual"):
            first = Plan().changed({"network": name, "training.epochs": 1})
            run = workspace.claim_run(first)
            finish(execute(workspace, run, lambda: False))
            plan = with_base(workspace, first.changed({"training.epochs": EPOCHS}), Base(run.number))
            plan = replace(plan, augmentation=())
            saved = epoch_of(workspace, plan)
            (file,) = (workspace.cache / "frozen").glob("*.npy")
            stored = np.load(file)
            head_seconds, reading = head_alone(run.model, plan, stored, file)
            frozen_outputs.BUDGET, budget = 0, frozen_outputs.BUDGET
            anew = epoch_of(workspace, plan.changed({"seed": 8}))
            frozen_outputs.BUDGET = budget
            file.unlink()
            alone = head_seconds + reading
            print(f"{name}, frozen up to {frozen_part(plan).node}: kept {saved / alone:.2f}, computed every time"
                  f" {anew / alone:.2f} of {alone:.2f} s (head {head_seconds:.2f}, reading {reading:.3f})")  # fmt: skip


def head_alone(model: Path, plan: Plan, outputs: np.ndarray, file: Path) -> tuple[float, float]:
    """Seconds of an epoch of the head on outputs in memory, and of reading as many from the file."""
    trained = read_model(model)
    network: Network = trained.network()
    classes, size = len(trained.classes), plan.training.batch_size
    training = len(outputs) * 4 // 5
    labels = np.arange(len(outputs)) % classes
    targets = np.eye(classes, dtype=np.float32)[labels]
    began = time.perf_counter()
    stored = np.load(file, mmap_mode="r")
    order = np.random.default_rng(0).permutation(training)
    for first in range(0, training, size):
        np.ascontiguousarray(stored[order[first : first + size]])
    reading = time.perf_counter() - began
    seconds = []
    with ThreadPool(plan.training.threads) as thread_pool:
        learner = Classifier(network, plan, trained.preprocessor, thread_pool, None, frozen_part(plan).node)
        for epoch in range(4):
            began = time.perf_counter()
            for number, first in enumerate(range(0, training, size)):
                rows = slice(first, min(training, first + size))
                learner.learn(Batch(outputs[rows], targets[rows]), StepContext(1, epoch, number, 0), 1)
            learner.evaluate(outputs[training:], labels[training:])
            seconds.append(time.perf_counter() - began)
    return statistics.median(seconds[1:]), reading


if __name__ == "__main__":
    main()
