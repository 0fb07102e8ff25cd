"""How many planted faults are found, and how many findings are false, against the demo's answer key.

For each seed a station is made with the mark moved and recoloured; copies of training images (shifted, lit otherwise,
noisy, packed again) are added to other sets' rows, and some images are photographed out of focus.

    python benchmarks/faults.py [--images 1200] [--seeds 0 1 2]
"""

from __future__ import annotations

import argparse
import io
import os
import time

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from PIL import Image

from attentive_lens.demo.grains import TYPES
from attentive_lens.demo.slide import Mark, photograph
from attentive_lens.images.faults import Evidence, find_faults
from attentive_lens.plan.chance import chance
from attentive_lens.plan.progress import finish

MARKS = (
    Mark(),
    Mark(x=0.86, y=0.14, absorbance=(0.2, 1.5, 1.9)),
    Mark(x=0.12, y=0.45, absorbance=(1.1, 1.2, 1.0), radius=0.05),
)
COPIES, SOFT = 0.02, 0.02


def copied(image: np.ndarray, random: np.random.Generator) -> np.ndarray:
    moved = np.roll(image, random.integers(-2, 3, 2), (0, 1)) * random.uniform(0.92, 1.08)
    noisy = np.clip(moved + random.normal(0, 3, image.shape), 0, 255).astype(np.uint8)
    packed = io.BytesIO()
    Image.fromarray(noisy).save(packed, "JPEG", quality=int(random.integers(70, 96)))
    with Image.open(packed) as unpacked:
        return np.array(unpacked)


def measure(images: int, seed: int) -> str:
    kinds = list(TYPES)
    mark, marked_kind = MARKS[seed % len(MARKS)], seed % len(kinds)
    random = chance(seed, "planting")
    shots, labels, sets, marked, soft = [], [], [], set(), set()
    for k in range(images):
        label = k % len(kinds)
        with_mark = label == marked_kind and random.random() < 0.8
        blur = random.uniform(2.4, 3.5) if random.random() < SOFT else None
        shot = photograph(kinds[label], chance(seed, "faults", k), 64, mark if with_mark else None, blur)
        shots.append(shot.pixels)
        labels.append(label)
        sets.append("test" if k % 5 == 0 else "training")
        if with_mark and sets[-1] == "training":
            marked.add(k)
        if blur is not None:
            soft.add(k)
    pairs = set()
    for k in random.choice(images, round(images * COPIES), replace=False):
        pairs.add((int(k), len(shots)))
        shots.append(copied(shots[int(k)], random))
        labels.append(labels[int(k)])
        sets.append("test" if sets[int(k)] == "training" else "training")
        if int(k) in soft:
            soft.add(len(shots) - 1)
    sizes = np.full((len(shots), 2), 64)
    evidence = Evidence(np.stack(shots), np.array(labels), tuple(sets), tuple(kinds), sizes)
    began = time.perf_counter()
    findings = finish(find_faults(evidence))
    spent = time.perf_counter() - began
    told = {(a, b) for f in findings if f.kind in ("leak", "duplicate") for a in f.places for b in f.places if a < b}
    blurred = {p for f in findings if f.kind == "out of focus" for p in f.places}
    places = {p for f in findings if f.kind == "mark" for p in f.places}
    right_class = [f for f in findings if f.kind == "mark" and f"«{kinds[marked_kind]}»" in f.why]
    marks = sum(f.kind == "mark" for f in findings)

    def figures(name: str, found: set, planted: set) -> str:  # type: ignore[type-arg]
        false = len(found - planted) / max(1, len(found))
        return f"{name} {len(found & planted) / max(1, len(planted)):.0%} found, {false:.0%} false"

    return (
        f"seed {seed}: {figures('copies', told, pairs)}; {figures('out of focus', blurred, soft)};"
        f" mark in the right class {bool(right_class)}, {marks} findings, {figures('carriers', places, marked)};"
        f" {len(shots) / spent:.0f} images/s"
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--images", type=int, default=1200)
    parser.add_argument("--seeds", type=int, nargs="+", default=[0, 1, 2])
    words = parser.parse_args()
    for seed in words.seeds:
        print(measure(words.images, seed), flush=True)


if __name__ == "__main__":
    main()
