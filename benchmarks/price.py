"""Is the price of a plan what an epoch then takes?

For every starting network and two batch sizes the plan is priced, then trained for three epochs on the demo; printed is
the price over the median of the last two epochs, priced before and after.

    python benchmarks/price.py [--images 900]
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
from attentive_lens.desk.requests.prices import PricePlan
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--images", type=int, default=900)
    words = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder) / "station"
        workspace = finish(make_workspace(place, finish(make(place, words.images, 1)))).workspace
        ratios = []
        for name in STARTERS:
            for size in (16, 64):
                plan = Plan().changed({"network": name, "training.batch_size": size, "training.epochs": 3})
                before = finish(carry_out(PricePlan(str(place), plan.write()))).epoch_seconds
                run = workspace.claim_run(plan)
                finish(execute(workspace, run, lambda: False))
                took = statistics.median(epoch.seconds for epoch in RunReader(run).view().epochs[1:])
                after = finish(carry_out(PricePlan(str(place), plan.write()))).epoch_seconds
                ratios += [before / took, after / took]
                print(f"{name}, batch size {size}: price over epoch {before / took:.2f} before, {after / took:.2f}"
                      f" after; an epoch {took:.2f} s", flush=True)  # fmt: skip
        print(f"all: {min(ratios):.2f} to {max(ratios):.2f}, median {statistics.median(ratios):.2f}")


if __name__ == "__main__":
    main()
