"""What watching a run costs, as ratios to the same without it, in the same process and alternating.

Printed: an epoch with the layers' health over one without; a step that asks what is wanted of the run over the step
alone; the share of a run that checkpoints take; a chart of ten million points over one of a thousand.

    python benchmarks/watching.py [--images 1200] [--pairs 9]
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
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np

from attentive_lens.core.jobs import finish
from attentive_lens.core.records import PlainTable
from attentive_lens.desk.making import make_demo
from attentive_lens.desk.training.controlling import RunControl
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.images.feeding import Feed
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS
from attentive_lens.training.checkpoints import Checkpoints
from attentive_lens.training.classifier import Classifier
from attentive_lens.training.learner import Learner
from attentive_lens.training.loop import HEALTH_IMAGES, HEALTH_SHARE

CLASSES, EPOCHS = 6, 40


def health(name: str, images: int, pairs: int) -> tuple[float, float, float]:
    """Median, least and greatest ratio of an epoch with health to one without."""
    plan = Plan().changed({"network": name})
    rng = np.random.default_rng(0)
    pixels = rng.integers(0, 256, (images, *plan.preprocessing.shape)).astype(np.uint8)
    labels = rng.integers(0, CLASSES, images)
    preprocessor = Preprocessor.measured(pixels, plan.preprocessing)
    network_plan = plan.network.with_outputs(CLASSES)
    feed = Feed(pixels, labels, np.arange(images), plan.augmentation, preprocessor, 1, 32, CLASSES)
    ratios = []
    with ThreadPool(2) as thread_pool:
        learners = [
            Classifier(
                Network.start(network_plan, plan.preprocessing.shape, 1), plan, preprocessor, thread_pool,
                examples=examples,
            )
            for examples in (feed.examples, None)
        ]  # fmt: skip

        def epoch(learner: Classifier, number: int) -> float:
            began = time.perf_counter()
            for place, batch in enumerate(feed.batches_of(number)):
                learner.learn(batch, StepContext(1, number, place, 0), feed.batches)
            learner.health(min(HEALTH_IMAGES, max(8, images // HEALTH_SHARE)))
            return time.perf_counter() - began

        for learner in learners:
            epoch(learner, 0)
        for pair in range(pairs):
            order = (0, 1) if pair % 2 else (1, 0)
            seconds = dict.fromkeys(order, 0.0)
            for which in order:
                seconds[which] = epoch(learners[which], pair + 1)
            ratios.append(seconds[0] / seconds[1])
    return statistics.median(ratios), min(ratios), max(ratios)


def asking(workspace: Any) -> tuple[float, float]:
    """Seconds of asking for a word and a rate, and the share of a run that its checkpoints took."""
    plan = Plan().changed({"network": "three blocks", "training.epochs": EPOCHS})
    run = workspace.claim_run(plan)
    spent: list[float] = []
    write = Checkpoints.write

    def timed(self: Checkpoints, learner: Learner, card: PlainTable) -> None:
        began = time.perf_counter()
        write(self, learner, card)
        spent.append(time.perf_counter() - began)

    Checkpoints.write = timed  # type: ignore[method-assign]
    finish(execute(workspace, run, lambda: False))
    Checkpoints.write = write  # type: ignore[method-assign]
    lasted = sum(epoch.seconds for epoch in RunReader(run).view().epochs)
    control = RunControl(run, lambda: False)
    began = time.perf_counter()
    for _ in range(10_000):
        control.word()
        control.rate()
    each = (time.perf_counter() - began) / 10_000
    step = lasted / EPOCHS / -(-run.images()[1].count("training") // plan.training.batch_size)
    return each / step, sum(spent) / lasted


def chart(points: int) -> float:
    """Seconds to take a curve of so many points and draw it for the first time, the best of seven."""
    from attentive_lens.window.application import make_application
    from attentive_lens.window.parts.chart import Chart, Curve

    application = make_application()
    drawn = Chart("Loss", "", "chart")
    drawn.resize(800, 260)
    x = np.linspace(0, 100, points)
    line = np.stack([x, 1 + np.sin(x)], axis=1)
    times = []
    for _ in range(7):
        began = time.perf_counter()
        drawn.show_curves((Curve("batches", line, "ink"),), 100)
        drawn.grab()
        times.append(time.perf_counter() - began)
    del application
    return min(times)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--images", type=int, default=1200)
    parser.add_argument("--pairs", type=int, default=9)
    words = parser.parse_args()
    for name in ("two blocks", "three blocks", "residual"):
        if name in STARTERS:
            middle, low, high = health(name, words.images, words.pairs)
            print(f"epoch with health over one without, {name}: {middle:.3f} ({low:.3f}–{high:.3f})", flush=True)
    with tempfile.TemporaryDirectory() as folder:
        workspace = finish(make_demo(Path(folder) / "station", 600, 5)).workspace
        request, share = asking(workspace)
        print(f"asking what is wanted over a step: {request:.5f}")
        print(f"checkpoints over the whole run: {share:.4f}")
    small, large = chart(1000), chart(10_000_000)
    print(f"a curve of ten million points: {large * 1000:.0f} ms, {large / small:.1f} times one of a thousand")


if __name__ == "__main__":
    main()
