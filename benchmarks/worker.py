"""How long the worker can be deaf: the longest stretch of every task between two places where it yields or breathes.

A press of a key waits at most so long before it is begun. Each stretch stands beside a forward and backward pass of the
default network for one batch of 32 images, timed in the same run. The first request of each task, which also loads
what it needs, is not counted.

    python benchmarks/worker.py [WORKSPACE] [--run 1]
"""

from __future__ import annotations

import argparse
import os
import statistics
import tempfile
import time
from pathlib import Path
from typing import Any

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

from attentive_lens.core.jobs import finish, on_breath
from attentive_lens.core.values import in_words
from attentive_lens.desk.making import make_demo
from attentive_lens.desk.network.bases import with_base
from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.bases import ProbeBase
from attentive_lens.desk.requests.causes import Causes
from attentive_lens.desk.requests.explaining import Activations, Explain, FirstFilters, Trust
from attentive_lens.desk.requests.images import Augment, ClassAverages, FindFaults, Measure, OpenPicture, Prepare
from attentive_lens.desk.requests.inspecting import Channels, Layer, Neighbours, TryChanges
from attentive_lens.desk.requests.mapping import MapData
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.engine.batches import learn
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.losses import one_hot
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import LensError
from attentive_lens.explaining.change_settings import CHANGE_SETTINGS
from attentive_lens.explaining.methods import MAP_METHODS
from attentive_lens.plan.base import Base
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace


def stretches(request: Request[Any]) -> list[float]:
    """Seconds between the places where a task can be overtaken."""
    seen: list[float] = []
    last = time.perf_counter()

    def mark() -> None:
        nonlocal last
        now = time.perf_counter()
        seen.append(now - last)
        last = time.perf_counter()

    on_breath(mark)
    try:
        job = carry_out(request)
        for _ in job:
            mark()
    except LensError as error:
        print(f"  {type(request).__name__}: {error}")
    finally:
        mark()
        on_breath(None)
    return seen


def one_step() -> float:
    """Seconds of a training step of the default network on 32 images."""
    plan = Plan()
    network = Network.start(plan.network.with_outputs(6), plan.preprocessing.shape, 0)
    images = np.random.default_rng(0).standard_normal((32, *plan.preprocessing.shape), np.float32)
    targets, route = one_hot(np.arange(32) % 6, 6), network.route(frozenset(network.weights))
    result = []
    with ThreadPool(2) as thread_pool:
        for k in range(6):
            began = time.perf_counter()
            learn(network, images, targets, route, StepContext(0, 0, k, 0), thread_pool)
            result.append(time.perf_counter() - began)
    return statistics.median(result[1:])


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("workspace", nargs="?", type=Path)
    parser.add_argument("--run", type=int, default=1)
    words = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        place = words.workspace
        if place is None:
            place = Path(folder) / "pollen"
            made = finish(make_demo(place, 1800, 0)).workspace
            finish(execute(made, made.claim_run(Plan().changed({"training.epochs": 3})), lambda: False))
        measure(str(place), words.run)


def measure(folder: str, run: int) -> None:
    step = one_step()
    plan = Workspace.open(Path(folder)).run(run).plan()
    facts = plan.network.with_outputs(2).facts(plan.preprocessing.shape)
    layer = [fact.name for fact in facts if len(fact.shape) == 3][-1]
    selected: list[Request[Any]] = [
        Prepare(folder),
        Measure(folder),
        OpenPicture(folder, 1),
        ClassAverages(folder),
        Augment(folder, Plan().write(), 8, 5),
        FindFaults(folder),
        Score(folder, run, "training"),
        *(Explain(RunImage(folder, run, 3), method()) for method in MAP_METHODS.values()),
        Activations(RunImage(folder, run, 3)),
        Trust(RunImage(folder, run, 3)),
        Causes(folder, run, "test"),
        ProbeBase(folder, with_base(Workspace.open(Path(folder)), Plan(), Base(run)).write()),
        FirstFilters(RunImage(folder, run, 1)),
        Layer(folder, run, layer),
        Channels(RunImage(folder, run, 3), layer),
        Neighbours(RunImage(folder, run, 3)),
        MapData(folder, run),
        TryChanges(RunImage(folder, run, 3), (in_words("--change", CHANGE_SETTINGS, "rotate degrees=20"),)),
    ]
    print(f"a training step on 32 images: {1000 * step:.0f} ms")
    for request in selected:
        stretches(request)
        for file in Path(folder).glob("runs/*/*.npz"):
            if file.name != "images.npz":  # which notes what the run was trained with
                file.unlink()  # what is kept would make the second request no work
        result = stretches(request)
        name = type(request).__name__ + (f" {request.method}" if isinstance(request, Explain) else "")
        longest = max(result)
        print(f"  {name:36} {1000 * longest:7.1f} ms, {longest / step:5.2f} steps; in all {1000 * sum(result):.0f} ms",
              flush=True)  # fmt: skip


if __name__ == "__main__":
    main()
