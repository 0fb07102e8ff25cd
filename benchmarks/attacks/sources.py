"""Sources of chance: pixels changed under the same size and time, odd depths and names; nothing slips through.

python benchmarks/attacks/sources.py [--count 40] [--seed 0]
"""

from __future__ import annotations

import argparse
import csv
import json
import os
import random
import sys
import tempfile
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from PIL import Image

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.images.data import gather, pixel_format_of
from attentive_lens.desk.making import look_again, make_workspace
from attentive_lens.desk.requests.models import Prediction
from attentive_lens.desk.results.answer_files import COLUMNS, AnswerFile, class_columns
from attentive_lens.images.pixel_format import white_of
from attentive_lens.plan.plan import Plan

ENDINGS = (".png", ".bmp", ".tiff", ".npz")
NAMES = (
    "file",
    "predicted",
    "error",
    "probability",
    "unlike",
    "a,b",
    'quo"te',
    "größe",
    "类",
    "class file",
    "=1+1",
    "-x",
)


def pixels(chosen: random.Random, top: int, count: int) -> np.ndarray:
    draw = np.random.default_rng(chosen.randrange(1 << 30))
    kind = np.uint8 if top <= 255 else np.uint16
    return draw.integers(0, top + 1, (count, 12, 12)).astype(kind)


def write(folder: Path, ending: str, images: np.ndarray, names: list[str]) -> Path:
    if ending == ".npz":
        np.savez(folder.with_suffix(".npz"), images=images, labels=np.array(names))
        return folder.with_suffix(".npz")
    for k, (image, name) in enumerate(zip(images, names, strict=True)):
        (folder / name).mkdir(parents=True, exist_ok=True)
        Image.fromarray(image).save(folder / name / f"{k}{ending}")
    return folder


def seen_again(chosen: random.Random, folder: Path) -> str:
    """Some pixels change; a rescan must name these images and no others."""
    ending, count = chosen.choice(ENDINGS), chosen.randint(4, 14)
    images, names = pixels(chosen, 255, count), [("smooth", "spiny")[k % 2] for k in range(count)]
    source = write(folder / "source", ending, images, names)
    workspace = finish(make_workspace(folder / "work", source)).workspace
    rows = workspace.catalogue.images()
    before, print_before = finish(gather(workspace, Plan())).pixels[:], collection(workspace, Plan()).fingerprint
    changed = sorted(chosen.sample(range(count), chosen.randint(0, count)))
    others = images.copy()
    others[changed] = 255 - others[changed]
    times = {file: file.stat() for file in ([source] if source.is_file() else source.rglob("*.*"))}
    write(folder / "source", ending, others, names)
    for file, state in times.items():
        if chosen.random() < 0.5:
            os.utime(file, ns=(state.st_atime_ns, state.st_mtime_ns))
    after = finish(gather(workspace, Plan())).pixels[:]
    moved = {row.number for row in rows if not np.array_equal(before[row.number - 1], after[row.number - 1])}
    result = set(finish(look_again(workspace)).changed)
    if result != moved:
        return f"{ending}: changed are {sorted(moved)}, told {sorted(result)}"
    if (collection(workspace, Plan()).fingerprint != print_before) != bool(moved):
        return f"{ending}: what is kept does not follow the pixels"
    return ""


def one_scale(chosen: random.Random, folder: Path) -> str:
    """Images of any depth share a scale, which is the least that is enough for all but one."""
    top, ending = chosen.choice((300, 1023, 4095, 16_383, 65_535)), chosen.choice((".png", ".tiff", ".npz"))
    images, names = pixels(chosen, top, 8), ["smooth", "spiny"] * 4
    images[0] = images[0] // 64
    workspace = finish(make_workspace(folder / "work", write(folder / "source", ending, images, names))).workspace
    white, own = white_of(int(np.sort(images.max(axis=(1, 2)))[-2])), pixel_format_of(workspace)
    if own.white != (0 if own.is_plain else white) or own.is_plain != (ending == ".npz" and white <= 255):
        return f"{ending}, up to {images.max()}: white is told as {own.white:g}"
    return ""


def columns(chosen: random.Random, folder: Path) -> str:
    """Answers of classes with odd names are read back as they were written, from every kind of file."""
    classes = chosen.sample(NAMES, chosen.randint(2, len(NAMES)))
    sure = {name: chosen.random() for name in classes}
    for ending in (".csv", ".jsonl", ".parquet"):
        file = folder / f"answers{ending}"
        for part in (0, 1):
            into = AnswerFile(file, classes, resume=bool(part))
            into.write([Prediction(f"{part}.png", classes[0], sure[classes[0]], sure, "softmax")])
            into.finish()
        heads = class_columns(COLUMNS, classes)
        if ending == ".csv":
            with file.open(newline="", encoding="utf-8") as stream:
                rows = [[float(row[head]) for head in heads] for row in csv.DictReader(stream)]
        elif ending == ".jsonl":
            rows = [list(json.loads(line)["probabilities"].values()) for line in file.read_text("utf-8").splitlines()]
        else:
            from pyarrow import parquet

            rows = [[row[head] for head in heads] for row in parquet.read_table(file).to_pylist()]
        if len(rows) != 2 or not all(np.allclose(row, list(sure.values()), atol=1e-6) for row in rows):
            return f"{ending} of {classes}: {rows}"
    return ""


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--count", type=int, default=40)
    parser.add_argument("--seed", type=int, default=0)
    arguments = parser.parse_args()
    failed = 0
    for number in range(arguments.count):
        for attack in (seen_again, one_scale, columns):
            chosen = random.Random(f"{arguments.seed} {number} {attack.__name__}")
            with tempfile.TemporaryDirectory() as folder:
                wrong = attack(chosen, Path(folder))
            if wrong:
                failed += 1
                print(f"{attack.__name__} {number}: {wrong}")
    print(f"{3 * arguments.count} attacks, {failed} went through")
    return bool(failed)


if __name__ == "__main__":
    sys.exit(main())
