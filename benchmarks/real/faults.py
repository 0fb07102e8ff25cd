"""What the fault finders find in real pictures: of what was planted, and of what was not.

Every set of `sets.py` is looked through as it is, where all that is found is false (but for real copies), once more
with copies, blurred, washed out and small pictures, and a mark planted in it, and once with three of a hundred labels
changed, which a quick probe should doubt before anything is trained. Then small coloured things are laid on eight
images, at one place and at different ones, some times over, and pictures are cut twice, up to three pixels apart.

    python benchmarks/real/faults.py FOLDER [SET ...]
"""

from __future__ import annotations

import argparse
import io
import os
import re
import time
from dataclasses import dataclass, field, replace
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from PIL import Image
from scipy.ndimage import gaussian_filter

from attentive_lens.core.jobs import finish
from attentive_lens.core.random import random_generator
from attentive_lens.images.decoding import decode
from attentive_lens.images.faults import Evidence, Finding, find_faults
from attentive_lens.images.faults.recurring import recurring
from attentive_lens.images.preprocessing import resized
from attentive_lens.plan.preprocessing import Preprocessing

MOST = 3000
WRONG = 0.03
SHOWS = 6.0
"""Levels by which pixels vary in a picture that shows something, twice the noise that is planted with a copy."""
SEEN = 2.0
"""Levels by which blur must change a picture to be seen."""
FEW, TRIALS, TWICE = 8, 6, 60
"""Images that a small thing is laid on, how often, and pictures that are cut twice."""
COLOURS = np.array([(220, 30, 30), (30, 60, 220), (20, 20, 20), (240, 240, 240), (40, 200, 60), (250, 220, 30)], float)
MOVED = 7
"""Pixels of 64 by which two pictures of the same may be moved."""
SETTINGS = Preprocessing()
GROUPED = ("duplicate", "leak", "contradiction", "sizes")


@dataclass
class Shown:
    """A set as it is planted: pictures as they were, labels, names, and what is the matter with each."""

    pictures: list[np.ndarray]
    labels: list[int]
    names: list[str]
    classes: tuple[str, ...]
    planted: dict[str, set[int]] = field(default_factory=dict)
    copies: set[frozenset[int]] = field(default_factory=set)

    def same(self, one: int, other: int) -> bool:
        """Whether two pictures are one: planted so, sizes of one drawing, or pixel by pixel."""
        stems = [re.sub(r"-\d+$", "", self.names[k]) for k in (one, other)]
        if stems[0] == stems[1] and self.pictures[one].shape != self.pictures[other].shape:
            return True
        known = frozenset((one, other)) in self.copies
        return known or alike(self.pictures[one], self.pictures[other])

    def evidence(self) -> Evidence:
        """As the finders see it; every fifth image is in the validation set."""
        pixels = np.stack([resized(picture, SETTINGS) for picture in self.pictures])
        sizes = np.array([picture.shape[:2] for picture in self.pictures], np.int64)
        sets = tuple("validation" if k % 5 == 4 else "training" for k in range(len(self.labels)))
        return Evidence(pixels, np.array(self.labels), sets, self.classes, sizes, names=tuple(self.names))


def read(folder: Path) -> Shown:
    """A set, thinned to so many images."""
    files = sorted(folder.glob("*/*.png"))
    files = [files[k * len(files) // min(MOST, len(files))] for k in range(min(MOST, len(files)))]
    classes = tuple(sorted({file.parent.name for file in files}))
    labels = [classes.index(file.parent.name) for file in files]
    return Shown([decode(file).pixels for file in files], labels, [file.stem for file in files], classes)


def copied(picture: np.ndarray, random: np.random.Generator) -> np.ndarray:
    """The same picture again: moved a little, lit otherwise, noisy, and packed."""
    width = max(1, round(2 * max(picture.shape[:2]) / 64))
    moved = np.roll(picture, random.integers(-width, width + 1, 2), (0, 1)) * random.uniform(0.92, 1.08)
    noisy = np.clip(moved + random.normal(0, 3, picture.shape), 0, 255).astype(np.uint8)
    with io.BytesIO() as packed:
        Image.fromarray(noisy).save(packed, "JPEG", quality=int(random.integers(70, 96)))
        return np.array(Image.open(packed))


def dotted(picture: np.ndarray, random: np.random.Generator) -> np.ndarray:
    """With a dot at the lower left: of ink, or of light where the picture is dark."""
    height, width = picture.shape[:2]
    rows, columns = np.mgrid[0:height, 0:width] + 0.5
    x, y = 0.13 + random.normal(0, 0.015), 0.86 + random.normal(0, 0.015)
    ink = np.clip((1.15 - np.hypot(columns / width - x, rows / height - y) / 0.07) / 0.3, 0, 1)
    if picture.mean() < 70:
        return (picture + ink[:, :, None] * np.array((40, 110, 160))).clip(0, 255).astype(np.uint8)
    return (picture * np.exp(-ink[:, :, None] * np.array((1.6, 0.9, 0.3)))).astype(np.uint8)


def planted(shown: Shown, seed: int) -> Shown:
    """The set with faults in it, each in images of its own."""
    random = random_generator(seed, "real faults")
    pictures, labels, names = list(shown.pictures), list(shown.labels), list(shown.names)
    order = random.permutation(len(pictures)).tolist()
    large = [k for k in order if min(pictures[k].shape[:2]) >= 48 and pictures[k].std() > SHOWS]
    part = max(8, len(order) // 33)
    soft, flat, small = (set(large[n * part : (n + 1) * part]) for n in range(3))
    twins = large[3 * part : 4 * part]
    marked = max(range(len(shown.classes)), key=labels.count)
    touched = soft | flat | small | set(twins)
    dots = {k for k in order if labels[k] == marked and k not in touched and random.random() < 0.8}
    for k in sorted(soft):
        blurred = gaussian_filter(pictures[k], 0.044 * max(pictures[k].shape[:2]), axes=(0, 1))
        if np.abs(blurred.astype(float) - pictures[k]).mean() < SEEN:
            soft.discard(k)  # it shows nothing that blur could take away
        pictures[k] = blurred
    for k in flat:
        level = pictures[k].mean()
        pictures[k] = ((pictures[k] - level) * 0.12 + random.uniform(90, 190)).clip(0, 255).astype(np.uint8)
    if np.median([min(picture.shape[:2]) for picture in pictures]) < 48:
        small = set()  # among small pictures a small one is no fault
    for k in small:
        pictures[k] = np.array(Image.fromarray(pictures[k]).resize((20, 20), Image.Resampling.BILINEAR))
    for k in dots:
        pictures[k] = dotted(pictures[k], random)
    copies = set()
    for k in twins:
        copies.add(frozenset((k, len(pictures))))
        pictures.append(copied(pictures[k], random))
        labels.append(labels[k])
        names.append(f"again-{len(pictures)}")
    every = {"out of focus": soft, "washed out": flat, "too small": small, "mark": dots}
    return replace(shown, pictures=pictures, labels=labels, names=names, planted=every, copies=copies)


def few_marked(pixels: np.ndarray, random: np.random.Generator, one_place: bool) -> tuple[np.ndarray, set[int]]:
    """Pictures N×H×W×3, a small coloured disc or square on eight of them, and which these are."""
    pixels, side = pixels.copy(), pixels.shape[1]
    chosen = random.choice(len(pixels), FEW, replace=False)
    colour, across = COLOURS[int(random.integers(len(COLOURS)))], random.choice([0.1, 0.14])
    middle, square = random.uniform(0.1, 0.9, 2), random.random() < 0.5
    rows, columns = (np.mgrid[0 : 4 * side, 0 : 4 * side] + 0.5) / (4 * side)
    for k in chosen:
        down, right = middle + random.normal(0, 0.015, 2) if one_place else random.uniform(0.08, 0.92, 2)
        apart = np.maximum(abs(rows - down), abs(columns - right)) if square else np.hypot(rows - down, columns - right)
        cover = (apart < across / 2).reshape(side, 4, side, 4).mean(axis=(1, 3))[:, :, None]
        with io.BytesIO() as packed:
            marked = (pixels[k] * (1 - cover) + cover * colour).astype(np.uint8)
            Image.fromarray(marked).save(packed, "JPEG", quality=85)
            pixels[k] = np.array(Image.open(packed))
    return pixels, set(chosen.tolist())


def of_few(shown: Shown) -> str:
    """How many images with a small thing are told, of how many, and how many without."""
    whole, random, lines = shown.evidence(), random_generator(1, "marks on few"), []
    for one_place in (True, False):
        right, wrong = 0, 0
        for _ in range(TRIALS):
            pixels, marked = few_marked(np.asarray(whole.pixels), random, one_place)
            result = {int(k) for thing in finish(recurring(replace(whole, pixels=pixels))) for k in thing.places}
            right, wrong = right + len(result & marked), wrong + len(result - marked)
        where = "at one place" if one_place else "at different places"
        lines.append(f"{where} {right}/{TRIALS * FEW}, {wrong} images besides")
    return f"  a small thing on {FEW} images, {TRIALS} times: {'; '.join(lines)}"


def cut_twice(shown: Shown, seed: int) -> tuple[Shown, dict[frozenset[int], int]]:
    """The set with some of its pictures cut twice, and by how many pixels of the file each pair is apart."""
    random = random_generator(seed, "cut twice")
    pictures, labels, names = list(shown.pictures), list(shown.labels), list(shown.names)
    pairs: dict[frozenset[int], int] = {}
    for k in random.permutation(len(pictures))[:TWICE].tolist():
        picture = pictures[k]
        if min(picture.shape[:2]) < 24 or picture.std() <= SHOWS:
            continue
        apart = int(random.integers(1, 4))
        other = int(random.integers(0, apart + 1))
        down, right = (apart, other) if random.random() < 0.5 else (other, apart)
        height, width = picture.shape[0] - down, picture.shape[1] - right
        pictures[k] = picture[:height, :width]
        pairs[frozenset((k, len(pictures)))] = apart
        pictures.append(picture[down:, right:])
        labels.append(labels[k])
        names.append(f"cut-{len(pictures)}")
    return replace(shown, pictures=pictures, labels=labels, names=names, copies=set(pairs)), pairs


def of_cut(shown: Shown) -> str:
    """How many pairs are told, by how far they are apart."""
    cut, pairs = cut_twice(shown, 1)
    findings = finish(find_faults(cut.evidence(), ["duplicates"]))
    groups = [set(group) for finding in findings if finding.kind in GROUPED for group in finding.groups]
    known = {pair for pair in pairs if any(pair <= group for group in groups)}
    parts = [
        f"{sum(pairs[pair] == apart for pair in known)}/{sum(each == apart for each in pairs.values())} by {apart}"
        for apart in (1, 2, 3)
    ]
    return f"  cut twice, pixels apart: {', '.join(parts)}"


def mislabelled(shown: Shown, seed: int) -> Shown:
    """The set with three of a hundred labels changed."""
    random = random_generator(seed, "wrong labels")
    labels = list(shown.labels)
    changed = {k for k in range(len(labels)) if random.random() < WRONG}
    for k in changed:
        labels[k] = (labels[k] + int(random.integers(1, len(shown.classes)))) % len(shown.classes)
    return replace(shown, labels=labels, planted={"doubtful label": changed})


def of_labels(shown: Shown) -> str:
    """How many labels the quick probe doubts, and how many of those were changed."""
    began = time.perf_counter()
    findings = finish(find_faults(shown.evidence(), ["doubtful labels"]))
    seconds = time.perf_counter() - began
    doubted = {place for finding in findings for place in finding.places}
    changed = shown.planted.get("doubtful label", set())
    false = f"{len(doubted - changed)} false ({len(doubted - changed) / len(shown.labels):.1%} of images)"
    result = f", changed {len(doubted & changed)}/{len(changed)}" if changed else ""
    return f"  doubtful labels: {false}{result}, {seconds:.1f} s"


def alike(one: np.ndarray, other: np.ndarray) -> bool:
    """Whether two pictures show the same but for brightness and a little noise, judged pixel by pixel."""
    a, b = (np.asarray(resized(p, SETTINGS), np.float64).mean(axis=2) for p in (one, other))
    best = 1.0
    for down in range(-MOVED, MOVED + 1):
        for across in range(-MOVED, MOVED + 1):
            left = a[MOVED:-MOVED, MOVED:-MOVED] - a[MOVED:-MOVED, MOVED:-MOVED].mean()
            right = b[MOVED + down : 64 - MOVED + down, MOVED + across : 64 - MOVED + across]
            right = right - right.mean()
            gain = (left * right).sum() / max(float((right * right).sum()), 1e-9)
            best = min(best, float(((left - gain * right) ** 2).sum() / max(float((left * left).sum()), 1e-9)))
    return best < 0.05


def of_groups(shown: Shown, findings: list[Finding]) -> str:
    """Groups of copies, how many hold what is not the same, and how many of the planted pairs are in one."""
    groups = [group for finding in findings if finding.kind in GROUPED for group in finding.groups]
    false = 0
    for group in groups:
        pairs = [(group[0], other) for other in group[1:]]
        wrong = [p for p in pairs if not shown.same(*p)]
        false += bool(wrong)
        for pair in wrong[:1]:
            print(f"    a group of {len(group)}, not the same:", *(shown.names[k] for k in pair))
    stored = sum(any(pair <= set(group) for group in groups) for pair in shown.copies)
    most = max((len(group) for group in groups), default=0)
    result = f", planted {stored}/{len(shown.copies)}" if shown.copies else ""
    return f"copies: {len(groups)} groups, {false} false, largest {most}{result}"


def report(shown: Shown) -> str:
    """One line for each kind."""
    began = time.perf_counter()
    findings = finish(find_faults(shown.evidence()))
    lines = [f"  {len(shown.labels)} images, {time.perf_counter() - began:.1f} s", f"  {of_groups(shown, findings)}"]
    for kind in ("out of focus", "washed out", "too small", "mark"):
        result = {place for finding in findings if finding.kind == kind for place in finding.places}
        wanted = shown.planted.get(kind, set())
        wrong = result - set().union(*shown.planted.values())
        false = f"{len(wrong)} false ({len(wrong) / len(shown.labels):.1%} of images)"
        lines.append(f"  {kind}: {false}" + (f", planted {len(result & wanted)}/{len(wanted)}" if wanted else ""))
    others = [f for f in findings if f.kind not in (*GROUPED, "out of focus", "washed out", "too small", "mark")]
    lines += [f"  {f.kind}: {f.why}" for f in others if "class" not in f.kind]
    return "\n".join(lines)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", type=Path)
    parser.add_argument("sets", nargs="*", default=["materials", "symbols", "planets", "laboratory", "terrain", "head"])
    words = parser.parse_args()
    for name in words.sets:
        shown = read(words.folder / name)
        print(f"{name}, as it is\n{report(shown)}", flush=True)
        print(f"{name}, planted\n{report(planted(shown, 1))}", flush=True)
        print(f"{name}, labels as they are\n{of_labels(shown)}", flush=True)
        print(f"{name}, some labels changed\n{of_labels(mislabelled(shown, 1))}", flush=True)
        print(f"{name}, a few\n{of_few(shown)}\n{of_cut(shown)}", flush=True)


if __name__ == "__main__":
    main()
