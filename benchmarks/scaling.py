"""Whether an image costs the same however many there are: import, training, scores, predictions, faults, map.

    python benchmarks/scaling.py [--sizes 1000 10000 100000] [--pixels 64] [--classes 10] [--folder PLACE]

Of made-up PNG files each part is a process of its own, so that what it takes to begin counts; printed are microseconds
an image, the ratio to the smallest size, whose start weighs most, and the memory that the processes had for themselves
at most; beside training stands what was said of it beforehand. An epoch is the faster of two, without its start, by the
journal.
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
from pathlib import Path

from collection import make, measured

from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.network.design import price_in_memory
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace

PROGRAM = [sys.executable, "-m", "attentive_lens"]


def cost(*words: object) -> tuple[float, float]:
    """Seconds, and most megabytes, of a command and the processes it begins."""
    return measured([*PROGRAM, *map(str, words)], quiet=True)


def costs(place: Path, images: int, pixels: int, classes: int) -> dict[str, tuple[float, float]]:
    """Microseconds an image, and megabytes, of each part."""
    pictures, folder = place / f"pictures {images}", place / f"station {images}"
    make(pictures, images, pixels, classes)
    result = {"import": cost("new", folder, pictures)}
    settings = {"preprocessing.input_size": pixels, "network": "two blocks", "training.epochs": 2}
    trained = cost("train", folder, *(word for key, value in settings.items() for word in ("--set", f"{key}={value}")))
    held_out = collection(Workspace.open(folder), Plan()).count("validation")
    told, _ = price_in_memory(Plan().changed(settings), classes, held_out)
    result["memory said before training"] = 0.0, told / 1e6
    epochs = RunReader(Workspace.open(folder).run(1)).view().epochs
    result["an epoch"] = min(epoch.seconds for epoch in epochs), trained[1]
    result["score, validation set"] = cost("score", folder, 1)
    model = folder / "runs" / "0001" / "checkpoints" / "best.alens"
    result["predict"] = cost("predict", model, pictures, "--out", place / f"{images}.csv")
    result["faults"] = cost("faults", folder)
    result["map of 1000"] = cost("map", folder, 1, "--method", "pca", "--most", 1000)
    return {part: (seconds / images * 1e6, held) for part, (seconds, held) in result.items()}


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--sizes", type=int, nargs="+", default=[1000, 10_000, 100_000])
    parser.add_argument("--pixels", type=int, default=64)
    parser.add_argument("--classes", type=int, default=10)
    parser.add_argument("--folder", type=Path)
    words = parser.parse_args()
    with tempfile.TemporaryDirectory(dir=words.folder) as place, tempfile.TemporaryDirectory() as state:
        os.environ["XDG_STATE_HOME"] = state
        first: dict[str, float] = {}
        for images in words.sizes:
            for part, (each, held) in costs(Path(place), images, words.pixels, words.classes).items():
                ratio = each / (first.setdefault(part, each) or 1)
                print(f"{images:7} images, {part:22} {each:8.0f} µs an image, {ratio:.2f}; {held:.0f} MB", flush=True)


if __name__ == "__main__":
    main()
