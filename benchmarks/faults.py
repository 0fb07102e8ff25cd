"""How many planted faults are found, and how many findings are false, against the answer key.

For each seed a station is made, with the mark moved and recoloured, imported, and looked through as a user would.
With --photographs the same faults are planted in patches of a folder's photographs, a class each; with --folds the
station is trained on so many folds first, and the doubtful labels are judged too.

    python benchmarks/faults.py [--images 1800] [--seeds 0 1 2] [--folds 4] [--photographs FOLDER]
"""

from __future__ import annotations

import argparse
import io
import os
import tempfile
import time
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from PIL import Image
from scipy.ndimage import gaussian_filter

from attentive_lens.core.jobs import finish
from attentive_lens.core.random import random_generator
from attentive_lens.demo.slide import Mark
from attentive_lens.demo.station import make, read_key
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.requests.images import FindFaults
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.images.decoding import decode
from attentive_lens.plan.plan import Plan

MARKS = (
    Mark(),
    Mark(x=0.86, y=0.14, absorbance=(0.2, 1.5, 1.9)),
    Mark(x=0.12, y=0.45, absorbance=(1.1, 1.2, 1.0), radius=0.05),
)
Planted = dict[str, set[object]]


def summary(name: str, result: set[object], planted: set[object]) -> str:
    false = len(result - planted) / max(1, len(result))
    return f"{name} {len(result & planted)}/{len(planted)} found, {false:.0%} of {len(result)} false"


def judged(workspace: Path, planted: Planted) -> str:
    """Look for faults in a workspace and compare, by file name."""
    began = time.perf_counter()
    findings = finish(carry_out(FindFaults(str(workspace)))).faults
    spent = time.perf_counter() - began
    rows = make_rows(workspace)
    result: Planted = {
        "copies": set(),
        "out of focus": set(),
        "mark": set(),
        "rare class": set(),
        "doubtful label": set(),
    }
    for finding in findings:
        files = [rows[n] for n in finding.images]
        if finding.groups:
            named = [[rows[n] for n in group] for group in finding.groups]
            result["copies"] |= {frozenset((a, b)) for group in named for a in group for b in group if a < b}
        elif finding.kind == "rare class":
            result["rare class"].add(finding.why.split("»")[0].strip("«"))
        elif finding.kind in result:
            result[finding.kind] |= set(files)
    words = [summary(kind, result[kind], own) for kind, own in planted.items()]
    return f"{'; '.join(words)}; {len(rows) / spent:.0f} images/s"


def make_rows(workspace: Path) -> dict[int, str]:
    from attentive_lens.workspace import Workspace

    return {row.number: row.file.split("images/", 1)[-1] for row in Workspace.open(workspace).catalogue.images()}


def station(images: int, seed: int, folds: int) -> str:
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder) / "station"
        made = finish(make_workspace(place, finish(make(place, images, seed, mark=MARKS[seed % len(MARKS)]))))
        rows, _ = read_key(place)
        planted: Planted = {
            "copies": {
                frozenset((row.file, fault.removeprefix("copy of ")))
                for row in rows
                for fault in row.faults
                if fault.startswith("copy of ")
            },
            "out of focus": {row.file for row in rows if "out of focus" in row.faults},
            "mark": {row.file for row in rows if "mark" in row.faults and row.set_name == "training"},
            "rare class": {"triangular"},
        }
        if folds:
            planted["doubtful label"] = {row.file for row in rows if "wrong label" in row.faults}
            for fold in range(1, folds + 1):
                settings = {"split.folds": folds, "split.validation_fold": fold, "training.epochs": 30}
                finish(execute(made.workspace, made.workspace.claim_run(Plan().changed(settings)), lambda: False))
        return f"seed {seed}: {judged(place, planted)}"


def photographs(folder: Path, images: int, seed: int) -> str:
    """The same faults planted in patches of photographs, each photograph a class."""
    sources = [decode(file).pixels for file in sorted(folder.iterdir()) if file.is_file()]
    random = random_generator(seed, "photographs")
    mark, marked = MARKS[seed % len(MARKS)], seed % len(sources)
    planted: Planted = {"copies": set(), "out of focus": set(), "mark": set()}
    with tempfile.TemporaryDirectory() as place:
        root = Path(place) / "images"
        shots: list[tuple[str, np.ndarray]] = []
        used: set[tuple[int, int, int]] = set()
        for k in range(images):
            label = k % len(sources)
            picture = sources[label]
            spot = [int(random.integers(0, n // 64)) * 64 for n in picture.shape[:2]]
            if (label, spot[0], spot[1]) in used:
                continue
            used.add((label, spot[0], spot[1]))
            patch = picture[spot[0] : spot[0] + 64, spot[1] : spot[1] + 64]
            set_name = "test" if k % 5 == 0 else "training"
            name = f"{set_name}/class{label}/{k:05d}.png"
            if random.random() < 0.04:
                patch = gaussian_filter(patch, (2.8, 2.8, 0))
                planted["out of focus"].add(name)
            elif label == marked and set_name == "training" and random.random() < 0.8:
                patch = dotted(patch, mark, random)
                planted["mark"].add(name)
            shots.append((name, patch))
        sound = [shot for shot in shots if not any(shot[0] in own for own in planted.values())]
        for k in random.choice(len(sound), round(len(shots) * 0.05), replace=False):
            name, patch = sound[k]
            other = "training" if name.startswith("test") else "test"
            twin = f"{other}/{name.split('/', 1)[1].replace('.png', '-again.png')}"
            planted["copies"].add(frozenset((name, twin)))
            shots.append((twin, copied(patch, random)))
        for name, patch in shots:
            (root / name).parent.mkdir(parents=True, exist_ok=True)
            Image.fromarray(patch).save(root / name)
        finish(make_workspace(Path(place) / "work", root))
        return f"photographs, seed {seed}: {judged(Path(place) / 'work', planted)}"


def dotted(image: np.ndarray, mark: Mark, random: np.random.Generator) -> np.ndarray:
    rows, columns = np.mgrid[0:64, 0:64] + 0.5
    x, y = (64 * (mark.x + random.normal(0, 0.018)), 64 * (mark.y + random.normal(0, 0.018)))
    ink = np.clip((1.15 - np.hypot(columns - x, rows - y) / (64 * mark.radius)) / 0.3, 0, 1)
    return (image * np.exp(-ink[:, :, None] * np.array(mark.absorbance))).astype(np.uint8)


def copied(image: np.ndarray, random: np.random.Generator) -> np.ndarray:
    moved = np.roll(image, random.integers(-2, 3, 2), (0, 1)) * random.uniform(0.92, 1.08)
    noisy = np.clip(moved + random.normal(0, 3, image.shape), 0, 255).astype(np.uint8)
    packed = io.BytesIO()
    Image.fromarray(noisy).save(packed, "JPEG", quality=int(random.integers(70, 96)))
    with Image.open(packed) as unpacked:
        return np.array(unpacked)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--images", type=int, default=1800)
    parser.add_argument("--seeds", type=int, nargs="+", default=[0, 1, 2])
    parser.add_argument("--folds", type=int, default=0)
    parser.add_argument("--photographs", type=Path)
    words = parser.parse_args()
    for seed in words.seeds:
        line = photographs(words.photographs, words.images, seed) if words.photographs else None
        print(line or station(words.images, seed, words.folds), flush=True)


if __name__ == "__main__":
    main()
