"""Several labels on real pictures: are they learned, are thresholds worth choosing, do maps show a label's own place?

Views are made of the pictures of a set: four quarters, each a picture of one of eight kinds, or grey; the kinds that
are there are the view's labels. A network is trained on some views and judged on others of other pictures. Printed, on
the test views: mean average precision, beside that of labels shuffled among the training views, and of any order; macro
F1 with 0.5 for all labels and with thresholds chosen by F1 on the validation views, and what the program said before
that these would come to; what a view's mistakes cost where a missed label costs five times a false one, likewise; what
a precision of 0.8 came to that was asked for; and of maps of labels that are rightly said, how much lies in their own
quarters, beside that of the maps of other labels of the same views: by chance, a quarter.

    python benchmarks/real/labels.py FOLDER [--epochs 15]
"""

from __future__ import annotations

import argparse
import csv
import os
import tempfile
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.core.jobs import finish
from attentive_lens.core.random import random_generator
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.requests.labels import ChooseThresholds, ScoreLabels
from attentive_lens.desk.results.models import model_of_run
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.tasks.explaining import class_map
from attentive_lens.desk.training.executing import execute
from attentive_lens.explaining.methods import DEFAULT
from attentive_lens.explaining.saliency import map_method
from attentive_lens.images.reading import Reading
from attentive_lens.plan.plan import Plan
from attentive_lens.scoring.labels import LabelScores
from attentive_lens.workspace import Run, Workspace

SETS = ("materials", "symbols", "planets", "laboratory", "terrain", "head")
KINDS, SIDE = 8, 64
TRAINING, TEST = 1500, 600
HELD_OUT_PICTURES = 0.3
"""Part of the pictures of each kind that are in test views alone."""
MAPPED = 120
COSTLY, PRECISION = 5.0, 0.8


def main() -> None:
    """See above."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").split("\n")[0])
    parser.add_argument("folder", type=Path)
    parser.add_argument("--epochs", type=int, default=15)
    parser.add_argument("--sets", nargs="*", default=SETS)
    options = parser.parse_args()
    print(
        "set          mAP  shuffled chance | F1 at .5  chosen  as told | cost at .5 chosen | precision | maps  others'"
    )
    for name in options.sets:
        with tempfile.TemporaryDirectory() as folder:
            print(f"{name:11} {judged(options.folder / name, Path(folder), options.epochs)}", flush=True)


def judged(source: Path, folder: Path, epochs: int) -> str:
    """A line about one set."""
    random = random_generator(0, "views", SETS.index(source.name))
    quarters = views(source, folder / "views", random)
    workspace = finish(make_workspace(folder / "work", folder / "views", "", Reading(separator=";"))).workspace
    plan = Plan().changed(
        {
            "task": "multi-label",
            "network": "three blocks",
            "preprocessing.input_size": SIDE,
            "augmentation": "none",
            "training.epochs": epochs,
        }
    )
    run = trained(workspace, plan)
    own = finish(carry_out(ScoreLabels(str(workspace.folder), run.number, "test")))
    half = finish(carry_out(ChooseThresholds(str(workspace.folder), run.number, "fixed", value=0.5)))
    at_half = finish(carry_out(ScoreLabels(str(workspace.folder), run.number, "test")))
    del half
    costs = [cost(at_half)]
    finish(carry_out(ChooseThresholds(str(workspace.folder), run.number, "cost", missed=COSTLY)))
    costs.append(cost(finish(carry_out(ScoreLabels(str(workspace.folder), run.number, "test")))))
    finish(carry_out(ChooseThresholds(str(workspace.folder), run.number, "precision", precision=PRECISION)))
    precise = finish(carry_out(ScoreLabels(str(workspace.folder), run.number, "test")))
    reached = [each.precision.value for each in precise.by_label if each.precision.value is not None]
    told = finish(carry_out(ChooseThresholds(str(workspace.folder), run.number, "F1")))
    inside, others = maps_inside(workspace, run, own, quarters)
    shuffled = shuffled_precision(workspace, plan, folder)
    return (
        f"{own.mean_average_precision:5.3f} {shuffled:8.3f} {own.chance:6.3f} | {at_half.macro_f1:8.3f}"
        f" {own.macro_f1:7.3f} {told.worth.macro_f1:8.3f} | {costs[0]:9.3f} {costs[1]:6.3f} |"
        f" {np.mean(reached):9.3f} | {inside:4.2f} {others:7.2f}"
    )


def views(source: Path, into: Path, random: np.random.Generator) -> dict[str, list[str]]:
    """Write the views and their table; the kind in each quarter of each, by its file, empty where it is grey."""
    into.mkdir(parents=True)
    known: dict[str, list[Path]] = {}
    for file in sorted(source.rglob("*")):
        if file.is_file():
            known.setdefault(file.parent.name, []).append(file)
    kinds = sorted(known, key=lambda kind: -len(known[kind]))[:KINDS]
    pictures: dict[tuple[str, str], list[NDArray[np.uint8]]] = {}
    for kind in kinds:
        files = [known[kind][k] for k in random.permutation(len(known[kind]))[:200]]
        count = max(1, round(len(files) * HELD_OUT_PICTURES))
        for set_name, part in (("test", files[:count]), ("training", files[count:])):
            pictures[kind, set_name] = [quarter(file) for file in part]
    quarters = {}
    with (into / "labels.csv").open("w", newline="") as stream:
        table = csv.writer(stream)
        table.writerow(["file", "label", "set"])
        for number in range(TRAINING + TEST):
            set_name = "test" if number >= TRAINING else "training"
            there = [str(random.choice(kinds)) if random.random() < 0.55 else "" for _ in range(4)]
            view = np.full((SIDE, SIDE, 3), 128, np.uint8)
            for k, kind in enumerate(there):
                if kind:
                    top, left = SIDE // 2 * (k // 2), SIDE // 2 * (k % 2)
                    own = pictures[kind, set_name]
                    view[top : top + SIDE // 2, left : left + SIDE // 2] = own[random.integers(len(own))]
            name = f"view-{number:05d}.png"
            Image.fromarray(view).save(into / name)
            table.writerow([name, ";".join(sorted(set(filter(None, there)))), set_name])
            quarters[name] = there
    return quarters


def quarter(file: Path) -> NDArray[np.uint8]:
    """A picture as it stands in a view."""
    with Image.open(file) as picture:
        whole = picture.convert("RGBA")
        ground = Image.new("RGBA", whole.size, (128, 128, 128, 255))
        return np.asarray(Image.alpha_composite(ground, whole).convert("RGB").resize((SIDE // 2, SIDE // 2)))


def trained(workspace: Workspace, plan: Plan) -> Run:
    """A run of a plan."""
    run = workspace.claim_run(plan)
    finish(execute(workspace, run, lambda: False))
    return run


def cost(scores: LabelScores) -> float:
    """Of a view's mistakes, a missed label counting several times."""
    missed = sum(len(each.missed) for each in scores.by_label)
    return (COSTLY * missed + sum(len(each.false) for each in scores.by_label)) / scores.images


def maps_inside(
    workspace: Workspace, run: Run, scores: LabelScores, quarters: dict[str, list[str]]
) -> tuple[float, float]:
    """Share of the maps of labels rightly said that is in their own quarters, and of maps of other labels there."""
    model, rows = model_of_run(run), {row.number: row for row in workspace.catalogue.images()}
    method = map_method(DEFAULT)
    inside: list[float] = []
    others: list[float] = []
    for number, said, there in zip(scores.numbers.tolist(), scores.said, scores.there, strict=True):
        right = [name for name, a, b in zip(scores.labels, said, there, strict=True) if a and b]
        if len(right) < 2:
            continue
        pixels = model.preprocessor.opened(workspace.path_of(rows[number]))
        maps = {name: np.maximum(class_map(model, pixels, method, name), 0) for name in right[:2]}
        for name, other in (right[:2], right[1::-1]):
            places = [k for k, kind in enumerate(quarters[rows[number].name]) if kind == name]
            if len(places) != 1:
                continue
            top, left = SIDE // 2 * (places[0] // 2), SIDE // 2 * (places[0] % 2)
            for values, of in ((inside, name), (others, other)):
                map_ = maps[of]
                own = map_[top : top + SIDE // 2, left : left + SIDE // 2].sum()
                values.append(float(own / max(map_.sum(), 1e-12)))
        if len(inside) >= MAPPED:
            break
    return float(np.mean(inside or [np.nan])), float(np.mean(others or [np.nan]))


def shuffled_precision(workspace: Workspace, plan: Plan, folder: Path) -> float:
    """Mean average precision on the test views of a network whose training views had others' labels."""
    table = folder / "views" / "labels.csv"
    with table.open(newline="") as stream:
        head, *lines = list(csv.reader(stream))
    order = random_generator(0, "shuffled").permutation(TRAINING)
    labels = [lines[k][1] for k in order] + [line[1] for line in lines[TRAINING:]]
    with table.open("w", newline="") as stream:
        csv.writer(stream).writerows(
            [head, *([line[0], label, line[2]] for line, label in zip(lines, labels, strict=True))]
        )
    made = finish(make_workspace(folder / "shuffled", folder / "views", "", Reading(separator=";")))
    run = trained(made.workspace, plan)
    scores = finish(carry_out(ScoreLabels(str(made.workspace.folder), run.number, "test")))
    return scores.mean_average_precision or 0.0


if __name__ == "__main__":
    main()
