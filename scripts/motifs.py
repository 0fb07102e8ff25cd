"""Makes the base that ships anew: draws its pictures, trains it and writes its file. Can be stopped and begun again.

What is drawn, and the run, stay in the folder; a second call goes on where the first one ended.

    python scripts/motifs.py FOLDER [--kinds 480] [--images 140] [--epochs 30] [--out FILE]
"""

from __future__ import annotations

import argparse
import os
from concurrent.futures import ProcessPoolExecutor
from dataclasses import asdict, replace
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.training.executing import Launch, execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.formats.reading import read_model
from attentive_lens.motifs import MODELS
from attentive_lens.motifs.drawing import SIDE, draw
from attentive_lens.motifs.kinds import kind
from attentive_lens.plan.augmentation import Flip, Scale, Translate
from attentive_lens.plan.blocks import Residual, built
from attentive_lens.plan.layers import (
    BatchNormalisation,
    Convolution,
    Dropout,
    GlobalPooling,
    MaxPooling,
    Output,
    Relu,
)
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Run, Workspace


def draw_kind(file: Path, number: int, images: int) -> None:
    """All pictures of a kind, N×H×W×3 uint8, written whole or not at all."""
    if file.exists():
        return
    thing = kind(number)
    pictures = np.stack([draw(thing, number, image) for image in range(images)])
    half = file.with_suffix(".half")
    with half.open("wb") as stream:
        np.save(stream, pictures)
    half.rename(file)


def draw_all(folder: Path, kinds: int, images: int) -> Path:
    """All pictures of all kinds in one file of arrays."""
    whole = folder / "motifs.npz"
    if whole.exists():
        return whole
    drawn = folder / "drawn"
    drawn.mkdir(parents=True, exist_ok=True)
    files = [drawn / f"{number:04}.npy" for number in range(kinds)]
    with ProcessPoolExecutor() as pool:
        for k, _ in enumerate(pool.map(draw_kind, files, range(kinds), [images] * kinds)):
            print(f"\rdrawn: {k + 1} of {kinds} kinds", end="", flush=True)
    print()
    half = folder / "half.npz"
    labels = np.repeat(np.arange(kinds), images)
    names = np.array([f"kind {number:03}" for number in range(kinds)])
    np.savez(half, images=np.concatenate([np.load(file) for file in files]), labels=labels, names=names)
    half.rename(whole)
    return whole


def plan_of(epochs: int) -> Plan:
    """Of the base: 58 million multiply-adds an image of 64×64 pixels, 0.98 million weights."""
    network = built(
        [
            *(Convolution(filters=32, kernel_size=5, stride=2), BatchNormalisation(), Relu()),
            *(Convolution(filters=48), BatchNormalisation(), Relu(), MaxPooling()),
            *(Residual(filters=64), Residual(filters=128, stride=2), Residual(filters=192, stride=2)),
            *(GlobalPooling(), Dropout(rate=0.2), Output()),
        ]
    )
    changes = (Flip(direction="either"), Translate(range=(-0.08, 0.08)), Scale(range=(0.85, 1.15)))
    plan = Plan(name="motifs", seed=1, network=network, augmentation=changes)
    return plan.changed(
        {
            "split.validation_fraction": 0.03,
            "preprocessing.input_size": SIDE,
            "training.epochs": epochs,
            "training.batch_size": 64,
            "optimiser.learning_rate": 0.001,
            "optimiser.weight_decay": 0.02,
            "schedule.warmup_epochs": 0.2,
            "loss.label_smoothing": 0.1,
            "averaging": "exponential moving average",
            "averaging.decay": 0.999,
        }
    )


def trained(workspace: Workspace, plan: Plan) -> Run:
    """The run of the plan, begun or gone on with."""
    known = workspace.runs()
    run = known[0] if known else workspace.claim_run(plan)
    job = execute(workspace, run, lambda: False, Launch(resume=bool(known)))
    shown = ""
    for progress in job:
        part = f"{progress.doing} {100 * progress.done // max(1, progress.total)} %"
        if part != shown:
            shown = part
            print(f"\r{part:60}", end="", flush=True)
    print()
    return run


def write(run: Run, file: Path, kinds: int, images: int) -> None:
    """The run's best model as the base that ships, with its card."""
    model, view = read_model(run.model), RunReader(run).view()
    best = view.best
    figures = asdict(best.validation) if best is not None and best.validation is not None else {}
    card = {
        "about": f"Made-up things and materials, {kinds} kinds. For few labels: textures, outlines, small parts.",
        "licence": "CC0-1.0",
        "made by": "python scripts/motifs.py",
        "pictures": {"kinds": kinds, "of each": images, "pixels": SIDE},
        "epochs": best.epoch if best is not None else 0,
        "validation": {name: value for name, value in figures.items() if value is not None},
        "plan": model.card["plan"],
        "versions": model.card["versions"],
    }
    replace(model, card=card, kernels={}).write(file, half=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--kinds", type=int, default=480)
    parser.add_argument("--images", type=int, default=140)
    parser.add_argument("--epochs", type=int, default=30)
    parser.add_argument("--out", type=Path, default=MODELS / "motifs.alens")
    words = parser.parse_args()
    words.folder.mkdir(parents=True, exist_ok=True)
    pictures = draw_all(words.folder, words.kinds, words.images)
    place = words.folder / "workspace"
    workspace = Workspace.open(place) if place.exists() else finish(make_workspace(place, pictures)).workspace
    run = trained(workspace, plan_of(words.epochs))
    write(run, words.out, words.kinds, words.images)


if __name__ == "__main__":
    main()
