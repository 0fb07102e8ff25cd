"""What does each starting network come to on the demo?

Each is trained once with a new plan's settings on the pollen station (1 800 images, 64×64 pixels). Printed are its
weights, multiply-adds, best validation accuracy, and what an epoch took as a multiple of «three blocks»'s, all trained
in the same run of this program.

    python benchmarks/starters.py [--images 1800] [--epochs 20]
"""

from __future__ import annotations

import argparse
import os
import statistics
import tempfile
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from attentive_lens.core.jobs import finish
from attentive_lens.demo.station import make
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.network.design import facts_of
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS

FIRST = "three blocks"


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--images", type=int, default=1800)
    parser.add_argument("--epochs", type=int, default=20)
    words = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder) / "station"
        workspace = finish(make_workspace(place, finish(make(place, words.images, 7)))).workspace
        usual = 0.0
        print("| network | weights | multiply-adds | best validation accuracy | epoch, in three blocks' |")
        print("|---|---|---|---|---|")
        for name in (FIRST, *(name for name in STARTERS if name != FIRST)):
            plan = Plan().changed({"training.epochs": words.epochs})
            plan = plan.changed({"network": name}).with_network(STARTERS[name].network_for(64, 6))
            _, facts = facts_of(plan, 6)
            run = workspace.claim_run(plan)
            finish(execute(workspace, run, lambda: False))
            epochs = RunReader(run).view().epochs
            took = statistics.median(epoch.seconds for epoch in epochs)
            usual = usual or took
            best = max(epoch.validation.main for epoch in epochs if epoch.validation is not None)
            weights, cost = sum(fact.weights for fact in facts), sum(fact.multiply_adds for fact in facts)
            print(f"| {name} | {weights} | {cost / 1e6:.1f} M | {best:.1%} | {took / usual:.2f} |", flush=True)
        print(f"an epoch of {FIRST} took {usual:.2f} s")


if __name__ == "__main__":
    main()
