"""What do pairs that draw of noise come to on real pictures, and what do their figures say when something is wrong?

On every set of `sets.py` a starting pair is trained as it starts and in ways that are known to go wrong: with a
generator that hardly learns, a discriminator that hardly learns, a discriminator of a tenfold rate without spectral
normalisation, and a generator of a hundredfold rate. Printed is, over the last epochs, what advice goes by (parts
judged right in training, variety, grid, values at limits) with the advice that is given, and the fidelity of the
drawings by the Shelf's motifs beside that of two halves of the real pictures.

    python benchmarks/real/generating.py SETS WORK [SET ...] [--seeds 1] [--epochs 60] [--size 32] [--ways WAY ...]
"""

from __future__ import annotations

import argparse
import os
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from following import place_for, trained

from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.fidelity import MeasureFidelity
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.advising import advice_of
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.plan.plan import Plan

SETS = ["terrain", "planets", "symbols", "materials", "head"]
LAST = 3
TOLD = (
    ("training", "told_apart"),
    ("training", "real_right"),
    ("training", "drawn_right"),
    ("validation", "variety"),
    ("validation", "grid"),
    ("validation", "at_limit"),
)
USUAL = {"network": "generator", "augmentation": "none"}
WAYS: dict[str, dict[str, object]] = {
    "as-it-starts": {},
    "by-class": {"network": "generator, by class"},
    "generator-still": {"optimiser.learning_rate": 1e-7},
    "discriminator-still": {"discriminator_optimiser.learning_rate": 1e-7},
    "discriminator-steep": {
        "task.spectral_normalisation": False,
        "discriminator_optimiser.learning_rate": 4e-3,
        "discriminator_initialisation": "he",
    },
    "generator-hasty": {"optimiser.learning_rate": 0.02},
}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("sets", type=Path)
    parser.add_argument("work", type=Path)
    parser.add_argument("names", nargs="*", default=SETS)
    parser.add_argument("--seeds", type=int, nargs="+", default=[1])
    parser.add_argument("--epochs", type=int, default=60)
    parser.add_argument("--size", type=int, default=32)
    parser.add_argument("--ways", nargs="+", choices=list(WAYS), default=list(WAYS))
    words = parser.parse_args()
    heads = ("set", "way", "seed", "told apart", "real right", "drawn right", "variety", "grid", "at limit", "advice",
             "distance", "of halves", "precision", "recall", "of halves", "copies")  # fmt: skip
    print(f"| {' | '.join(heads)} |\n{'|---' * len(heads)}|", flush=True)
    for name in words.names:
        for seed in words.seeds:
            workspace = place_for(words.sets, words.work, name, "generating", seed)
            for way in words.ways:
                settings = {
                    **USUAL,
                    "preprocessing.input_size": words.size,
                    "training.epochs": words.epochs,
                    **WAYS[way],
                }
                run = trained(workspace, replace(Plan().changed(settings), seed=seed))
                view = RunReader(run).view()
                last = [epoch for epoch in view.epochs if epoch.validation is not None][-LAST:]
                row = [name, way, str(seed)]
                for part, measure in TOLD:
                    row.append(f"{sum(getattr(epoch, part).more[measure] for epoch in last) / len(last):.2f}")
                row.append(", ".join(finding.kind for finding in advice_of(workspace, run, view)) or "–")
                asked = MeasureFidelity(str(workspace.folder), run.number, features="shelf:motifs")
                result = finish(carry_out(asked))
                row += [f"{result.whole.distance:.1f}", f"{result.apart.distance:.1f}", f"{result.whole.precision:.2f}",
                        f"{result.whole.recall:.2f}", f"{result.apart.recall:.2f}", f"{result.copies:.2f}"]  # fmt: skip
                print(f"| {' | '.join(row)} |", flush=True)


if __name__ == "__main__":
    main()
