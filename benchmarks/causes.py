"""Do explanations find what the answer key knows, and does the remedy they propose work?

For each seed a station is made, with the mark moved and recoloured, the default plan is trained, and its mistakes on
the test set are grouped by what they rest on. Measured against the answer key: the part of the dot's victims in one
group; where each map method has its peak, for victims and for right answers; the completeness error of integrated
gradients; seconds a map takes; and the victims' error after the proposed plan beside a retrain of the unchanged plan
with another seed, with the accuracy on images without a dot.

    python benchmarks/causes.py [--images 1800] [--seeds 0 1 2] [--maps 40] [--no-remedy]
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
from faults import MARKS
from scipy.ndimage import binary_dilation, gaussian_filter
from station import REACH, SMOOTH

from attentive_lens.core.jobs import finish
from attentive_lens.demo.slide import GRAIN, MARK
from attentive_lens.demo.station import MARKED_TYPE, make, read_key
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.requests.causes import Causes
from attentive_lens.desk.requests.explaining import Explain
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.explaining.methods import MAP_METHODS
from attentive_lens.explaining.saliency import METHODS
from attentive_lens.plan.plan import Plan
from attentive_lens.scoring.answers import Answer
from attentive_lens.workspace import Workspace


def trained(workspace: Workspace, plan: Plan) -> int:
    run = workspace.claim_run(plan)
    finish(execute(workspace, run, lambda: False))
    return run.number


def measure(images: int, seed: int, maps: int, remedy: bool, folder: Path) -> None:
    workspace = finish(make_workspace(folder, finish(make(folder, images, seed, mark=MARKS[seed % 3])))).workspace
    place = str(folder)
    rows, masks = read_key(folder)
    files = {row.number: row.file.split("images/", 1)[-1] for row in workspace.catalogue.images()}
    key = {row.file: (row, mask) for row, mask in zip(rows, masks, strict=False)}
    facts = {number: key[file] for number, file in files.items()}
    first = trained(workspace, Plan())

    def answers(run: int) -> tuple[Answer, ...]:
        return finish(carry_out(Score(place, run, "test"))).answers

    scored = answers(first)
    spiny = finish(carry_out(Score(place, first, "test"))).classes.index(MARKED_TYPE)
    dotted = {a.image for a in scored if "mark" in facts[a.image][0].faults and a.true != spiny}
    victims = [a.image for a in scored if a.image in dotted and a.predicted == spiny]
    right = [a.image for a in scored if a.predicted == a.true and "mark" not in facts[a.image][0].faults]
    groups = finish(carry_out(Causes(place, first, "test"))).groups
    shares = [len(set(group.images) & set(victims)) / max(1, len(victims)) for group in groups]
    best = int(np.argmax(shares))
    plan = groups[best].plan
    print(f"seed {seed}: {len(victims)} victims; {shares[best]:.0%} of them in one group of {len(groups)},")
    pure = len(set(groups[best].images) & set(victims)) / len(groups[best].images)
    print(f"  which is {pure:.0%} victims; a plan is {'proposed' if plan else 'not proposed'}", flush=True)
    for method in METHODS:
        peaks, errors, spent = {"victims, dot": [], "right, grain": []}, [], []  # type: ignore[var-annotated]
        for name, chosen, bits in (("victims, dot", victims, MARK), ("right, grain", right, GRAIN)):
            for image in chosen[:: max(1, len(chosen) // maps)][:maps]:
                start = time.perf_counter()
                result = finish(carry_out(Explain(RunImage(place, first, image), MAP_METHODS[method]()))).maps[0]
                spent.append(time.perf_counter() - start)
                map_ = gaussian_filter(result.values, SMOOTH)
                thing = binary_dilation(facts[image][1] & bits > 0, iterations=REACH if bits == MARK else 1)
                peaks[name].append(bool(thing.reshape(-1)[map_.argmax()]))
                errors.append(result.trust.completeness.error if result.trust.completeness else 0.0)
        figures = ", ".join(f"{name} {np.mean(own):.0%}" for name, own in peaks.items() if own)
        error = f", completeness error {statistics.median(errors):.2%} (worst {max(errors):.1%})" if any(errors) else ""
        print(f"  {method:24} peak: {figures}; {1000 * statistics.median(spent):.0f} ms{error}", flush=True)
    if plan is None or not remedy:
        return
    before = np.mean([a.predicted != a.true for a in scored if a.image in dotted])
    plain = np.mean([a.predicted == a.true for a in scored if a.image not in dotted])
    for name, own in (
        ("proposed plan", replace(Plan.read(plan), seed=1000 + seed)),
        ("control, unchanged plan", replace(Plan(), seed=1000 + seed)),
    ):
        again = answers(trained(workspace, own))
        wrong = np.mean([a.predicted != a.true for a in again if a.image in dotted])
        elsewhere = np.mean([a.predicted == a.true for a in again if a.image not in dotted])
        print(f"  {name}: error on dotted images {wrong:.0%} (was {before:.0%}), accuracy elsewhere {elsewhere:.1%}"
              f" (was {plain:.1%})", flush=True)  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--images", type=int, default=1800)
    parser.add_argument("--seeds", type=int, nargs="+", default=[0, 1, 2])
    parser.add_argument("--maps", type=int, default=40)
    parser.add_argument("--no-remedy", action="store_true")
    words = parser.parse_args()
    for seed in words.seeds:
        with tempfile.TemporaryDirectory() as folder:
            measure(words.images, seed, words.maps, not words.no_remedy, Path(folder) / "station")


if __name__ == "__main__":
    main()
