"""Is the learning rate that the sweep suggests a good one to begin with?

For several networks and optimisers on the demo the sweep suggests a rate; the plan is then trained for a few epochs
with it and with rates three and ten times smaller and greater. Printed is the least validation loss of each over that
of the best of the five, and what the sweep cost in epochs.

    python benchmarks/rates.py [--images 900] [--epochs 6] [--workspace PLACE]
"""

from __future__ import annotations

import argparse
import os
import statistics
import tempfile
import time
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from attentive_lens.core.jobs import finish
from attentive_lens.demo.station import make
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.requests.rates import SweepRates
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import LensError
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace

CASES = (
    ("two blocks", "adam"),
    ("three blocks", "adam"),
    ("three blocks", "sgd"),
    ("strided", "adam"),
    ("residual", "sgd"),
    ("three blocks", "rmsprop"),
    ("depthwise-separable", "adam"),
)
TIMES = (0.1, 0.3, 1.0, 3.0, 10.0)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--images", type=int, default=900)
    parser.add_argument("--epochs", type=int, default=6)
    parser.add_argument("--workspace", type=Path)
    words = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        if words.workspace is None:
            place = Path(folder) / "station"
            workspace = finish(make_workspace(place, finish(make(place, words.images, 11)))).workspace
        else:
            workspace = Workspace.open(words.workspace)
        print("| network | optimiser | suggested | falls from | to | " + " | ".join(f"× {t:g}" for t in TIMES)
              + " | sweep, in epochs |")  # fmt: skip
        print("|---" * (6 + len(TIMES)) + "|")
        for network, optimiser in CASES:
            plan = Plan().changed({"optimiser": optimiser})
            plan = plan.changed({"network": network, "training.epochs": words.epochs})
            began = time.perf_counter()
            swept = finish(carry_out(SweepRates(str(workspace.folder), plan.write())))
            took = time.perf_counter() - began
            if not swept.suggested:
                print(f"| {network} | {optimiser} | none: {swept.advice} |", flush=True)
                continue
            losses, seconds = [], []
            for times in TIMES:  # a plan takes no rate above ten
                run = workspace.claim_run(plan.changed({"optimiser.learning_rate": min(10.0, swept.suggested * times)}))
                try:
                    finish(execute(workspace, run, lambda: False))
                    epochs = RunReader(run).view().epochs
                    losses.append(min(e.validation.loss for e in epochs if e.validation is not None))
                    seconds += [e.seconds for e in epochs]
                except LensError:
                    losses.append(float("inf"))
            best = min(losses)
            row = " | ".join(f"{loss / best:.2f}" if loss < float("inf") else "ran away" for loss in losses)
            result = f"{swept.suggested:.2g} | {swept.lowest:.2g} | {swept.highest:.2g}"
            cost = took / statistics.median(seconds)
            print(f"| {network} | {optimiser} | {result} | {row} | {cost:.1f} |", flush=True)


if __name__ == "__main__":
    main()
