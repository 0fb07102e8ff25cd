"""Whether an image costs the same however many there are: import, training, scoring and prediction.

    python benchmarks/scaling.py [--sizes 1000 10000 100000] [--folder PLACE]

Of made-up 64×64 PNG files in ten classes, each part is a process of its own, so that what it takes to begin counts;
printed are microseconds an image, the ratio to the smallest size, whose start weighs most, and the memory that the
processes had for themselves at most. An epoch is the faster of two, without its start, by the journal.
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
from pathlib import Path

from collection import make, measured

from attentive_lens.desk.training.runs import RunReader
from attentive_lens.workspace import Workspace

PROGRAM = [sys.executable, "-m", "attentive_lens"]


def cost(*words: object) -> tuple[float, float]:
    """Seconds, and most megabytes, of a command and the processes it begins."""
    return measured([*PROGRAM, *map(str, words)], quiet=True)


def costs(place: Path, images: int) -> dict[str, tuple[float, float]]:
    """Microseconds an image, and megabytes, of each part."""
    pictures, folder = place / f"pictures {images}", place / f"station {images}"
    make(pictures, images)
    result = {"import": cost("new", folder, pictures)}
    trained = cost("train", folder, "--set", "network=two blocks", "--set", "training.epochs=2")
    epochs = RunReader(Workspace.open(folder).run(1)).view().epochs
    result["an epoch"] = min(epoch.seconds for epoch in epochs), trained[1]
    result["score, validation set"] = cost("score", folder, 1)
    model = folder / "runs" / "0001" / "checkpoints" / "best.alens"
    result["predict"] = cost("predict", model, pictures, "--out", place / f"{images}.csv")
    return {part: (seconds / images * 1e6, held) for part, (seconds, held) in result.items()}


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--sizes", type=int, nargs="+", default=[1000, 10_000, 100_000])
    parser.add_argument("--folder", type=Path)
    words = parser.parse_args()
    with tempfile.TemporaryDirectory(dir=words.folder) as place, tempfile.TemporaryDirectory() as state:
        os.environ["XDG_STATE_HOME"] = state
        first: dict[str, float] = {}
        for images in words.sizes:
            for part, (each, held) in costs(Path(place), images).items():
                ratio = each / first.setdefault(part, each)
                print(f"{images:7} images, {part:22} {each:8.0f} µs an image, {ratio:.2f}; {held:.0f} MB", flush=True)


if __name__ == "__main__":
    main()
