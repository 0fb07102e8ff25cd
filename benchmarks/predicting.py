"""How fast `predict` goes over a folder, as a share of what decoding and inference leave possible, and what it holds.

    python benchmarks/predicting.py WORKSPACE RUN [--files 8000] [--jpeg]

The workspace's own images are linked under new names until there are so many files (as JPEG of quality 90, if asked).
Streaming includes finding, reading, decoding, resizing and writing the answers as CSV. The bound is 1 / (1 / decoding +
1 / inference), each alone on all cores in the same run, before and after. Memory is the growth of the process while it
streams, over a quarter of the files and over all of them.
"""

from __future__ import annotations

import argparse
import os
import tempfile
import time
from functools import partial
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
import psutil
from PIL import Image

from attentive_lens.core.helpers import Helper, cores
from attentive_lens.desk.results.answer_files import AnswerFile
from attentive_lens.desk.results.answering import answers_to, image_files
from attentive_lens.desk.results.models import AT_ONCE, THREADS, model_of
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.images.ahead import read_files
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Workspace

BATCHES, DECODED = 60, 1024


def inference(model: ModelFile, files: list[str]) -> float:
    """Images a second of inference alone."""
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        read = read_files(model.preprocessor, files[:AT_ONCE])
        images = np.stack([each.pixels for each in read if not isinstance(each.pixels, str)])
        predictor.scores(predictor.prepare(images))
        began = time.perf_counter()
        for _ in range(BATCHES):
            predictor.checked(predictor.scores(predictor.prepare(images)))
        return BATCHES * len(images) / (time.perf_counter() - began)


def decoding(model: ModelFile, files: list[str]) -> float:
    """Images a second of decoding alone, by as many processes as there are cores."""
    few = files[:DECODED]
    helpers = [Helper(partial(read_files, model.preprocessor)) for _ in range(cores())]
    try:
        while not all(helper.is_ready() for helper in helpers):
            time.sleep(0.01)
        began = time.perf_counter()
        for helper in helpers:
            helper._pipe.send(few)
        for helper in helpers:
            helper._pipe.recv()
        return len(helpers) * len(few) / (time.perf_counter() - began)
    finally:
        for helper in helpers:
            helper.close()


def bound(model: ModelFile, files: list[str]) -> tuple[float, float]:
    """Of both, images a second."""
    return decoding(model, files), inference(model, files)


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


def linked(own: list[Path], folder: Path, count: int, as_jpeg: bool) -> list[str]:
    """A folder of so many files."""
    if as_jpeg:
        for k, file in enumerate(own):
            own[k] = folder.parent / f"{k}.jpg"
            if not own[k].exists():
                Image.open(file).convert("RGB").save(own[k], quality=90)
    for k in range(count):
        inner = folder / f"{k // 1000:03}"
        inner.mkdir(parents=True, exist_ok=True)
        file = own[k % len(own)]
        os.link(file, inner / f"{k:06}{file.suffix}")
    return list(image_files([folder]))


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("workspace", type=Path)
    parser.add_argument("run", type=int)
    parser.add_argument("--files", type=int, default=8000)
    parser.add_argument("--jpeg", action="store_true")
    words = parser.parse_args()
    place = Workspace.open(words.workspace)
    model = model_of(place.run(words.run).model)
    own = [place.path_of(row) for row in place.catalogue.images()]
    with tempfile.TemporaryDirectory(dir=place.folder) as made:
        for share in (4, 1):
            files = linked(own, Path(made) / f"of {share}", words.files // share, words.jpeg)
            before = bound(model, files)
            speed, grown = stream(model, Path(made) / f"of {share}", Path(made) / f"{share}.csv")
            after = bound(model, files)
            alone = [(a + b) / 2 for a, b in zip(before, after, strict=True)]
            possible = 1 / sum(1 / each for each in alone)
            print(
                f"{len(files)} files: {speed:.0f} images/s, {speed / possible:.2f} of what is possible"
                f" (decoding {alone[0]:.0f}, inference {alone[1]:.0f} images/s); the process grew by {grown:.0f} MB",
                flush=True,
            )


if __name__ == "__main__":
    main()
