"""How fast `predict` goes over a folder, as a ratio to the engine's inference on images in memory, and what it holds.

    python benchmarks/predicting.py WORKSPACE RUN [FILES]

The workspace's own images are linked under new names until there are FILES of them (20 000). Streaming includes
finding, reading, decoding, resizing and writing the answers as CSV; the engine's speed is that of the same model with
the same threads on prepared batches, measured before and after. Memory is the growth of the process while it streams.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import psutil

from attentive_lens.desk.results.answer_files import AnswerFile
from attentive_lens.desk.results.answering import answers_to, image_files
from attentive_lens.desk.results.models import AT_ONCE, THREADS, model_of
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.images.ahead import read_files
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Workspace

BATCHES = 60


def engine(model: ModelFile, files: list[str]) -> float:
    """Images a second of inference alone."""
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        read = read_files(model.preprocessor, files[:AT_ONCE])
        images = np.stack([image for _, image in read if not isinstance(image, str)])
        predictor.scores(predictor.prepare(images))
        began = time.perf_counter()
        for _ in range(BATCHES):
            predictor.checked(predictor.scores(predictor.prepare(images)))
        return BATCHES * len(images) / (time.perf_counter() - began)


def stream(model: ModelFile, folder: Path, out: Path) -> tuple[float, float]:
    """Images a second over a folder, and by how many megabytes the process grew."""
    process, count = psutil.Process(), 0
    into = AnswerFile(out, model.classes)
    before = most = process.memory_info().rss
    began = time.perf_counter()
    for batch in answers_to(model, image_files([folder])):
        into.write(batch)
        count += len(batch)
        most = max(most, process.memory_info().rss)
    into.finish()
    return count / (time.perf_counter() - began), (most - before) / 1e6


def main() -> None:
    """Measure and print."""
    place, number = Workspace.open(Path(sys.argv[1])), int(sys.argv[2])
    wanted = int(sys.argv[3]) if len(sys.argv) > 3 else 20_000
    model = model_of(place.run(number).model)
    own = [place.path_of(row) for row in place.catalogue.images()]
    with tempfile.TemporaryDirectory(dir=place.folder) as made:
        for share in (4, 1):
            folder = Path(made) / f"of {share}"
            for k in range(wanted // share):
                inner = folder / f"{k // 1000:03}"
                inner.mkdir(parents=True, exist_ok=True)
                file = own[k % len(own)]
                os.link(file, inner / f"{k:06}{file.suffix}")
            files = list(image_files([folder]))
            before = engine(model, files)
            speed, grown = stream(model, folder, Path(made) / f"{share}.csv")
            after = engine(model, files)
            print(
                f"{len(files)} files: {speed:.0f} images/s, {2 * speed / (before + after):.2f} of inference alone"
                f" ({before:.0f} before, {after:.0f} after); the process grew by {grown:.0f} MB",
                flush=True,
            )


if __name__ == "__main__":
    main()
