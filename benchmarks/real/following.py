"""Does following what the program says to do next beat not following it?

From the plan that a new workspace begins with, and with a budget of so many trainings of its epochs (a training of
twice the epochs costs two; trials are paid for too), three ways are gone on every set of `sets.py`:

followed  the first step on the list of what to do next, again and again, tried as the program offers it
seeds     the same plan with other seeds
search    random settings from the usual ranges

What each way found best by validation accuracy is judged on the test set. Pictures that belong together stand in one
set. Printed besides: what was forecast for every step that was followed, and what it gained.

    python benchmarks/real/following.py SETS WORK [SET ...] [--seeds 1 2 3] [--budget 10] [--ways followed seeds search]
"""

from __future__ import annotations

import argparse
import json
import os
import re
import shutil
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

from attentive_lens.core.jobs import finish
from attentive_lens.core.random import random_generator
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.network.usual import usual_plan
from attentive_lens.desk.remedies.forecasts import Outcome, Tried, calibration, note_use
from attentive_lens.desk.remedies.trials import part_of
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.remedies import NextStep, WhatNext
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import LensError
from attentive_lens.plan.augmentation import Contrast, Erasing, Scale
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.shortening import shortened
from attentive_lens.workspace import Run, Workspace

MOST = 1000
TOGETHER = {"materials": r"_t\d+$", "symbols": r"-\d+$"}
"""What is left out of the names of pictures that belong together."""
TEST, VALIDATION = 0.3, 0.2
NETWORKS = ("three blocks", "three double blocks", "normalised blocks", "residual", "two blocks")
TRIES = 6


def write_sets(source: Path, into: Path) -> None:
    """A set of pictures as folders of sets and classes."""
    files = sorted(source.glob("*/*.png"))
    files = [files[k * len(files) // min(MOST, len(files))] for k in range(min(MOST, len(files)))]
    rng = random_generator(1, f"following {source.name}")
    drawn: dict[tuple[str, str], float] = {}
    for file in files:
        unit = (file.parent.name, re.sub(TOGETHER.get(source.name, "$^"), "", file.stem))
        part = drawn.setdefault(unit, float(rng.random()))
        name = "test" if part < TEST else "validation" if part < TEST + VALIDATION else "training"
        target = into / name / file.parent.name
        target.mkdir(parents=True, exist_ok=True)
        shutil.copy(file, target / file.name)


def place_for(sets: Path, work: Path, name: str, way: str, seed: int) -> Workspace:
    """A workspace of one way on one set with one seed."""
    images = work / "images" / name
    if not images.exists():
        write_sets(sets / name, images)
    folder = work / f"{name}-{way}-{seed}"
    return Workspace.open(folder) if folder.exists() else finish(make_workspace(folder, images)).workspace


def trained(workspace: Workspace, plan: Plan) -> Run:
    run = workspace.claim_run(plan)
    finish(execute(workspace, run, lambda: False))
    return run


def judged(run: Run) -> tuple[float, float]:
    """Validation accuracy, and of equals the lesser loss."""
    best = RunReader(run).view().best
    assert best is not None
    assert best.validation is not None
    return best.validation.main, -best.validation.loss


def accuracy(workspace: Workspace, run: Run, on: str) -> float:
    return finish(carry_out(Score(str(workspace.folder), run.number, on))).accuracy


def followed(workspace: Workspace, first: Plan, budget: float) -> Iterator[tuple[Run, float, NextStep | None]]:
    """Runs, what each cost with its trials, and the step it followed."""
    epochs, left = first.training.epochs, budget - 1
    best = trained(workspace, first)
    yield best, 1.0, None
    done: set[str] = set()
    tried = 0
    while True:
        steps = finish(carry_out(WhatNext(str(workspace.folder), best.number)))
        cost = 0.0
        if not tried or not any(step.forecast is not None and step.forecast.helps for step in open_steps(steps.steps)):
            plan = best.plan()
            part = part_of(plan)
            chosen = [Plan.read(step.plan) for step in steps.steps if step.can_be_tried and step.plan][:TRIES]
            cost = sum(shortened(each, part).training.epochs for each in (plan, *chosen)) / epochs
            if cost + 1 > left or not chosen:
                break
            steps = finish(carry_out(WhatNext(str(workspace.folder), best.number, TRIES)))
            tried += 1
        candidates = [step for step in open_steps(steps.steps) if step.forecast is not None and step.forecast.helps]
        plans = [(step, Plan.read(step.plan)) for step in candidates if step.plan]
        affordable = [(s, p) for s, p in plans if cost + p.training.epochs / epochs <= left and key(p) not in done]
        if not affordable:
            break
        step, plan = affordable[0]
        cost += plan.training.epochs / epochs
        left -= cost
        done.add(key(plan))
        note_use(workspace, best.number, step)
        try:
            run = trained(workspace, replace(plan, seed=first.seed))
        except LensError as error:
            print(f"    failed: {error}")
            continue
        yield run, cost, step
        if judged(run) > judged(best):
            best = run


def open_steps(steps: tuple[NextStep, ...]) -> list[NextStep]:
    return [step for step in steps if step.plan is not None and step.run is None and not step.problem]


def key(plan: Plan) -> str:
    return json.dumps(replace(plan, name="plan", seed=0).write(), sort_keys=True)


def other_seeds(workspace: Workspace, first: Plan, budget: float) -> Iterator[tuple[Run, float, None]]:
    for k in range(int(budget)):
        yield trained(workspace, replace(first, seed=first.seed + 1000 * k)), 1.0, None


def searched(workspace: Workspace, first: Plan, budget: float) -> Iterator[tuple[Run, float, None]]:
    """Random search, the first plan first."""
    rng = random_generator(first.seed, f"random search in {workspace.folder.name}")
    yield trained(workspace, first), 1.0, None
    left = budget - 1
    more = (Scale(range=(0.8, 1.25)), Contrast(), Erasing())
    while left >= 1:
        times = int(rng.choice([1, 1, 2, 4]))
        if times > left:
            continue
        augmentation = [first.augmentation, (), (*first.augmentation, *more)][int(rng.integers(3))]
        plan = first.with_augmentation(augmentation).changed({
            "optimiser.learning_rate": float(f"{np.exp(rng.uniform(np.log(2e-4), np.log(5e-3))):.2g}"),
            "schedule": str(rng.choice(["constant", "cosine"])),
            "network": str(rng.choice(NETWORKS)),
            "training.epochs": times * first.training.epochs,
            "training.batch_size": int(rng.choice([16, 32, 64])),
            "optimiser.weight_decay": float(rng.choice([0.0, 0.01, 0.05])),
            "loss.label_smoothing": float(rng.choice([0.0, 0.1])),
        })  # fmt: skip
        left -= times
        try:
            yield trained(workspace, plan), float(times), None
        except LensError:
            continue


WAYS = {"followed": followed, "seeds": other_seeds, "search": searched}


def measure(workspace: Workspace, way: str, seed: int, budget: float) -> float:
    """Test accuracy of what is best by validation."""
    plan = replace(usual_plan(workspace).changed({"training.threads": 1}), seed=seed)
    best, chosen = (-1.0, 0.0), 0.0
    for run, cost, step in WAYS[way](workspace, plan, budget):
        value, test = judged(run), accuracy(workspace, run, "test")
        expected = f" ({step.forecast.words} expected: {step.remedy})" if step is not None and step.forecast else ""
        print(
            f"    run {run.number}, cost {cost:.1f}: {value[0]:.3f} on validation, {test:.3f} on test{expected}",
            flush=True,
        )
        if value > best:
            best, chosen = value, test
    return chosen


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("sets", type=Path)
    parser.add_argument("work", type=Path)
    parser.add_argument("names", nargs="*")
    parser.add_argument("--seeds", nargs="+", type=int, default=[1, 2, 3])
    parser.add_argument("--budget", type=float, default=10)
    parser.add_argument("--ways", nargs="+", default=list(WAYS), choices=list(WAYS))
    words = parser.parse_args()
    names = words.names or [each.name for each in sorted(words.sets.iterdir()) if each.name != "packages"]
    results: dict[str, list[float]] = {}
    outcomes: list[Outcome] = []
    for name in names:
        for seed in words.seeds:
            for way in words.ways:
                print(f"  {name}, seed {seed}, {way}", flush=True)
                workspace = place_for(words.sets, words.work, name, way, seed)
                results.setdefault(way, []).append(measure(workspace, way, seed, words.budget))
                outcomes += Tried(workspace).outcomes()
                print(f"  {name}, seed {seed}, {way}: {results[way][-1]:.3f} on test", flush=True)
    for way, values in results.items():
        print(f"{way}: {np.mean(values):.3f} on test in the mean of {len(values)}")
    print(calibration(tuple(outcomes)))


if __name__ == "__main__":
    main()
