"""Is what is told of a base beforehand what comes of it, on the pollen station and on real pictures?

Of every pair of a model and a set, with few labelled images as in `bases.py`, the probe is asked, which trains shortly
on these images alone; then all ways are trained to the end and judged on the test images, over several seeds, new
weights with the best of three learning rates. A base is ahead where its better way is right on more of the test images.
"Does not help" is right where it is ahead by less than the two points that make a base worth it. Where that is by no
more than chance may do (`CHANCE`, less over several seeds), "cannot be told" is right, too.

    python benchmarks/real/helping.py SETS WORK --pairs MODEL:SET,SET ... [--seeds 1 2 3]

Results of trainings are noted in WORK/trained.json, and taken from there.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import time
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from bases import TOGETHER, parted, planned, ways

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.requests.bases import DOES_NOT, HELPS, UNKNOWN, ProbeBase
from attentive_lens.desk.tasks import carry_out
from attentive_lens.workspace import Workspace

CHANCE = 5.0
"""Points within which two trainings of one seed may differ on such test sets by chance."""


def made(name: str, seed: int, model: Path, sets: Path, work: Path) -> Workspace:
    """A workspace of its own for one pair."""
    folder = work / f"helping-{name}-{seed}-{model.stem}"
    shutil.rmtree(folder, ignore_errors=True)
    return finish(make_workspace(folder, parted(name, sets, work, seed))).workspace


def trained(name: str, seed: int, model: Path, sets: Path, work: Path) -> dict[str, float]:
    """Test accuracies in points by way, as noted or obtained now."""
    file, key = work / "trained.json", f"{name} {seed} {model.stem}"
    known = json.loads(file.read_text()) if file.exists() else {}
    if key not in known:
        workspace = made(name, seed, model, sets, work)
        results = ways(workspace, planned(workspace, model, "", "training images", seed), False)
        known = json.loads(file.read_text()) if file.exists() else {}
        known[key] = {way: round(100 * result.accuracy, 2) for way, result in results.items()}
        file.write_text(json.dumps(known, indent=1))
    return dict(known[key])


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("sets", type=Path)
    parser.add_argument("work", type=Path)
    parser.add_argument("--pairs", nargs="+", required=True)
    parser.add_argument("--seeds", nargs="+", type=int, default=[1, 2, 3])
    words = parser.parse_args()
    right = wrong = count = 0
    for model, name in [(Path(p.split(":")[0]), n) for p in words.pairs for n in p.split(":")[1].split(",")]:
        seed = words.seeds[0]
        workspace = made(name, seed, model, words.sets, words.work)
        plan = planned(workspace, model, "", "training images", seed)
        if name in TOGETHER:
            pattern = TOGETHER[name].replace("$", r"\.")
            plan = plan.changed({"split.keep_together": "name pattern", "split.group_pattern": rf"[^/]*(?={pattern})"})
        began = time.perf_counter()
        probe = finish(carry_out(ProbeBase(str(workspace.folder), plan.write())))
        seconds = time.perf_counter() - began
        assert probe.compared is not None
        tables = [trained(name, each, model, words.sets, words.work) for each in words.seeds]
        ahead = [max(table["frozen"], table["learning on"]) - table["new weights"] for table in tables]
        mean, told = float(np.mean(ahead)), probe.compared.verdict
        fits = {HELPS: mean > 0, DOES_NOT: mean < 2, UNKNOWN: abs(mean) <= CHANCE / len(tables) ** 0.5}[told]
        right, count = right + fits, count + 1
        wrong += told == HELPS and mean <= 0
        figures = ", ".join(f"{w.way} {100 * w.halfway:.1f} {100 * w.accuracy:.1f}" for w in probe.compared.ways)
        best = probe.compared.best
        within = f"{best.way} {100 * best.low:+.1f} to {100 * best.high:+.1f}, {seconds:.0f} s"
        came = f"{mean:+.1f} ({', '.join(f'{each:+.1f}' for each in ahead)})"
        verdict = "right" if fits else "not"
        print(f"{model.stem}, {name}: «{told}» ({figures}; {within}); came {came}: {verdict}", flush=True)
    print(f"right on {right} of {count}, «{HELPS}» where it does not on {wrong}")


if __name__ == "__main__":
    main()
