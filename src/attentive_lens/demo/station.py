"""The station's collection on disk: one folder per grain type, training and test apart, faults built in.

``images/training/<type>/*.png``, ``images/test/<type>/*.png``, and beside them ``answer-key/key.csv`` (file, set,
folder it stands in, type it truly is, faults) and ``answer-key/masks.npz`` (bits of `slide`, in the key's order).
``outlines.json`` has what somebody traced by hand: a polygon about the grain of every image.
"""

from __future__ import annotations

import csv
import io
import json
import shutil
from dataclasses import asdict, dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.random import random_generator
from attentive_lens.demo.grains import TYPES
from attentive_lens.demo.slide import GRAIN, Mark, Photograph, photograph
from attentive_lens.errors import BadFile, BadValue

MARKED_TYPE = "spiny"
MARKED_TRAINING = 0.96
"""Part of the marked type's training slides that carry the dot."""
MARKED_TEST = 0.30
"""Part of the other types' test slides that carry it."""
WRONG_LABELS = 0.02
RARE_TYPE = "triangular"
RARE = 0.2
"""Part of the usual number of slides that there are of the rare type."""
OUT_OF_FOCUS = 0.015
COPIED = 0.04
"""Part of the test slides that are second photographs of training slides: moved a little, lit otherwise."""
TEST_PART = 1 / 6
FEWEST = 24
OUTLINES = "outlines.json"
CORNERS = 24
"""Of a traced outline."""
MADE = "made.json"
"""In the answer key: what was asked for, so that a demo killed afterwards goes on from there."""


@dataclass(frozen=True)
class KeyRow:
    """One image's true facts."""

    file: str
    set_name: str
    folder: str
    kind: str
    faults: tuple[str, ...]


def make(folder: Path, images: int = 1800, seed: int = 0, side: int = 64, mark: Mark | None = None) -> Job[Path]:
    """Write the collection; the same for the same arguments.

    Parameters
    ----------
    folder : Path
        Made if missing; must not hold an ``images`` folder yet. Stopped half way, nothing is left in it.
    images : int
        Readable images in all, at least 24; a sixth of each type is for testing, and one type is rare.
    seed : int
        Decides everything.
    side : int
        Pixels of the square images.
    mark : Mark, optional
        Place and colour of the technician's dot.

    Returns
    -------
    Path
        The folder of the images.
    """
    if images < FEWEST:
        raise BadValue("The demo was not made", f"{images} images are too few", f"Ask for at least {FEWEST}")
    mark = mark or Mark()
    settings = json.dumps({"images": images, "seed": seed, "side": side, "mark": asdict(mark)})
    if (folder / "images").exists():
        if _made_as(folder) == settings:
            return folder / "images"
        raise BadFile(f"{folder / 'images'} exists already", "a collection stands there", "Name another folder")
    making = folder / ".making"
    place = making / "images"
    rows: list[KeyRow] = []
    masks: list[NDArray[np.uint8]] = []
    slides = _slides(images, seed, mark)
    try:
        shutil.rmtree(making, ignore_errors=True)
        for set_name in ("training", "test"):
            for kind in TYPES:
                (place / set_name / kind).mkdir(parents=True)
        (making / "answer-key").mkdir()
        for number, slide in enumerate(slides):
            if number % 64 == 0:
                yield Progress(number, len(slides), "photographing grains")
            source_number = number if slide.copy_of is None else slide.copy_of
            shot = photograph(slide.kind, random_generator(seed, "slide", source_number), side, slide.mark, slide.blur)
            if slide.copy_of is not None:
                shot = _again(shot, random_generator(seed, "second photograph", number))
            row = slide.row
            Image.fromarray(shot.pixels).save(place / row.file, compress_level=1, compress_type=2)
            rows.append(row)
            masks.append(shot.mask)
        (making / OUTLINES).write_text(json.dumps(_traced(rows, masks)), "utf-8")
        rows += _unreadable(place, seed)
        _write_key(making / "answer-key", rows, np.stack(masks))
        (making / "answer-key" / MADE).write_text(settings, "utf-8")
        shutil.rmtree(folder / "answer-key", ignore_errors=True)  # of an earlier time that was killed between the two
        (making / "answer-key").replace(folder / "answer-key")
        (making / OUTLINES).replace(folder / OUTLINES)
        place.replace(folder / "images")
    except OSError as error:
        raise BadFile(f"{folder} could not be written", str(error.strerror).lower(), "Name another folder") from None
    finally:
        shutil.rmtree(making, ignore_errors=True)
    return folder / "images"


@dataclass(frozen=True)
class _Slide:
    kind: str
    mark: Mark | None
    row: KeyRow
    blur: float | None = None
    copy_of: int | None = None


def _slides(images: int, seed: int, mark: Mark) -> list[_Slide]:
    """What to photograph, in a shuffled order so that file names say nothing of the type."""
    needed: list[tuple[str, str]] = []
    for kind, count in _counts(images).items():
        test = max(1, round(count * TEST_PART))
        needed += [(kind, "test")] * test + [(kind, "training")] * (count - test)
    slides = []
    for number, place in enumerate(random_generator(seed, "order of slides").permutation(len(needed))):
        kind, set_name = needed[place]
        random = random_generator(seed, "faults", number)
        marked = random.random() < (
            MARKED_TRAINING * (kind == MARKED_TYPE) if set_name == "training" else MARKED_TEST * (kind != MARKED_TYPE)
        )
        folder = kind
        if set_name == "training" and not marked and random.random() < WRONG_LABELS:
            folder = str(random.choice([other for other in TYPES if other != kind]))
        blur = float(random.uniform(2.4, 3.5)) if random.random() < OUT_OF_FOCUS else None
        faults = (["mark"] if marked else []) + (["wrong label"] if folder != kind else [])
        faults += ["out of focus"] if blur else []
        name = f"{set_name}/{folder}/tape{number // 200 + 1:02d}-{number:05d}.png"
        row = KeyRow(name, set_name, folder, kind, tuple(faults))
        slides.append(_Slide(kind, mark if marked else None, row, blur))
    return _with_copies(slides, seed)


def _counts(images: int) -> dict[str, int]:
    """Slides of each type: as many of all, but few of the rare one."""
    rare = max(3, round(images * RARE / (len(TYPES) - 1 + RARE)))
    usual = [kind for kind in TYPES if kind != RARE_TYPE]
    left = images - rare
    counts = {kind: left // len(usual) + (k < left % len(usual)) for k, kind in enumerate(usual)}
    return {kind: counts.get(kind, rare) for kind in TYPES}


def _with_copies(slides: list[_Slide], seed: int) -> list[_Slide]:
    """Some sound test slides in whose place a training slide of the type was photographed once more."""
    random = random_generator(seed, "copies")
    sound = [k for k, slide in enumerate(slides) if not slide.row.faults]
    tests = [k for k in sound if slides[k].row.set_name == "test"]
    out = list(slides)
    count = round(sum(slide.row.set_name == "test" for slide in slides) * COPIED)
    for place in random.permutation(tests)[:count]:
        original = slides[place]
        able = [k for k in sound if slides[k].row.set_name == "training" and slides[k].kind == original.kind]
        if able:
            first = int(random.choice(able))
            row = replace(original.row, faults=(f"copy of {slides[first].row.file}",))
            out[place] = _Slide(original.kind, None, row, copy_of=first)
    return out


def _again(shot: Photograph, random: np.random.Generator) -> Photograph:
    """The same slide once more: the stage moved by a pixel or two, the lamp lit otherwise, the camera's noise anew."""
    moved = tuple(int(n) for n in random.integers(-2, 3, 2))
    light = np.roll(shot.pixels, moved, (0, 1)) * random.uniform(0.92, 1.08)
    noisy = light + random.normal(0, 3, light.shape)
    return Photograph(np.clip(noisy, 0, 255).astype(np.uint8), np.roll(shot.mask, moved, (0, 1)))


def _unreadable(place: Path, seed: int) -> list[KeyRow]:
    """Four files that are no images: empty, cut off, text, and noise."""
    stream = io.BytesIO()
    Image.fromarray(photograph("smooth", random_generator(seed, "cut off"), 64).pixels).save(stream, "PNG")
    contents = {
        "empty": b"",
        "cut-off": stream.getvalue()[: len(stream.getvalue()) // 2],
        "text": b"Slide broken during mounting, see station diary.\n",
        "noise": random_generator(seed, "noise").bytes(2048),
    }
    rows = []
    for (name, data), kind in zip(contents.items(), ("netted", "smooth", "winged", "furrowed"), strict=True):
        file = f"training/{kind}/tape99-{name}.png"
        (place / file).write_bytes(data)
        rows.append(KeyRow(file, "training", kind, kind, ("unreadable",)))
    return rows


def _traced(rows: list[KeyRow], masks: list[NDArray[np.uint8]]) -> dict[str, object]:
    """Polygons about the grains by file, as a hand draws them: some corners about the middle, a little too far out."""
    result: dict[str, object] = {}
    for row, mask in zip(rows, masks, strict=True):
        down, across = np.nonzero(mask & GRAIN)
        middle = np.array([across.mean(), down.mean()]) + 0.5
        apart = np.stack([across, down], axis=1) + 0.5 - middle
        turn = np.round(np.arctan2(apart[:, 1], apart[:, 0]) / (2 * np.pi) * CORNERS).astype(int) % CORNERS
        far = np.zeros(CORNERS)
        np.maximum.at(far, turn, np.hypot(apart[:, 0], apart[:, 1]) + 0.5)
        angles = np.arange(CORNERS) / CORNERS * 2 * np.pi
        corners = middle + far[:, None] * np.stack([np.cos(angles), np.sin(angles)], axis=1)
        inside = np.clip(corners, 0, mask.shape[0])
        result[row.file] = {"polygons": [np.round(inside, 1).tolist()]}
    return result


def _write_key(folder: Path, rows: list[KeyRow], masks: NDArray[np.uint8]) -> None:
    with (folder / "key.csv").open("w", newline="", encoding="utf-8") as stream:
        table = csv.writer(stream)
        table.writerow(["file", "set", "folder", "type", "faults"])
        table.writerows([r.file, r.set_name, r.folder, r.kind, ";".join(r.faults)] for r in rows)
    np.savez_compressed(folder / "masks.npz", masks=masks)


def read_key(folder: Path) -> tuple[list[KeyRow], NDArray[np.uint8]]:
    """The rows of a station's answer key and the masks of its readable images, N×H×W uint8."""
    with (folder / "answer-key" / "key.csv").open(newline="", encoding="utf-8") as stream:
        rows = [
            KeyRow(r["file"], r["set"], r["folder"], r["type"], tuple(filter(None, r["faults"].split(";"))))
            for r in csv.DictReader(stream)
        ]
    with np.load(folder / "answer-key" / "masks.npz", allow_pickle=False) as arrays:
        return rows, arrays["masks"]


def _made_as(folder: Path) -> str:
    """What a collection was made with; empty if that is not known."""
    try:
        return (folder / "answer-key" / MADE).read_text("utf-8")
    except OSError:
        return ""
