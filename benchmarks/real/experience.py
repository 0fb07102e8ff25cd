"""What changes of settings gain on real pictures, and what their trials say of it: for the table of experience.

On every set named, from the plan that a new workspace begins with, each change is trained in full and as its trial, and
so is the plan as it is, with the same seeds. Printed by kind of change: gains in full (validation and test images
together, against the plan as it is), gains of the trials on the validation images, both in points, and in the end how
much of a trial's gain beyond the usual one was kept. The table in `desk/remedies/forecasts.py` is set on
materials, symbols and planets.

    python benchmarks/real/experience.py SETS WORK [SET ...] [--seeds 21 22] [--kinds KIND ...]
"""

from __future__ import annotations

import argparse
import os
from collections import defaultdict
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from following import accuracy, judged, place_for, trained
from sets import DEVELOPED

from attentive_lens.desk.network.usual import usual_plan
from attentive_lens.desk.remedies.changes import CHANGES
from attentive_lens.desk.remedies.trials import part_of
from attentive_lens.errors import LensError
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.shortening import shortened
from attentive_lens.workspace import Workspace


def both(workspace: Workspace, plan: Plan, part: float) -> tuple[float, float]:
    """Validation accuracy of a plan's trial; mean accuracy on validation and test images of the whole training."""
    short, whole = trained(workspace, shortened(plan, part)), trained(workspace, plan)
    return judged(short)[0], (judged(whole)[0] + accuracy(workspace, whole, "test")) / 2


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("sets", type=Path)
    parser.add_argument("work", type=Path)
    parser.add_argument("names", nargs="*", default=list(DEVELOPED))
    parser.add_argument("--seeds", nargs="+", type=int, default=[21, 22])
    parser.add_argument("--kinds", nargs="+", default=list(CHANGES), choices=list(CHANGES))
    words = parser.parse_args()
    gains: dict[str, list[tuple[float, float]]] = defaultdict(list)
    for name in words.names:
        for seed in words.seeds:
            workspace = place_for(words.sets, words.work, name, "experience", seed)
            plan = replace(usual_plan(workspace).changed({"training.threads": 1}), seed=seed)
            side = int(np.median([max(row.width, row.height) for row in workspace.catalogue.images()]))
            still = both(workspace, plan, part_of(plan))
            for kind in words.kinds:
                changed = CHANGES[kind].make(plan, side)
                if changed is None:
                    continue
                try:
                    result = both(workspace, changed, part_of(plan))
                except LensError as error:
                    print(f"  {name}, seed {seed}, {kind}: {error}", flush=True)
                    continue
                gains[kind].append((result[0] - still[0], result[1] - still[1]))
                trial, whole = (100 * gain for gain in gains[kind][-1])
                print(f"  {name}, seed {seed}, {kind}: trial {trial:+.1f}, in full {whole:+.1f}", flush=True)
    beyond: list[tuple[float, float]] = []
    for kind, pairs in gains.items():
        table = np.array(pairs)
        (trial, whole), spread = table.mean(axis=0) * 100, table[:, 1].std() * 100
        print(f"{kind}: in full {whole:+.1f} (deviation {spread:.1f}), trials {trial:+.1f}, of {len(table)}")
        beyond += (table - table.mean(axis=0)).tolist()
    trials, wholes = np.array(beyond).T
    print(f"kept of a trial's gain beyond the usual: {float(trials @ wholes / max(trials @ trials, 1e-12)):.2f}")


if __name__ == "__main__":
    main()
