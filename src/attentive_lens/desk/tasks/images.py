"""Tasks about images: the contact sheet, measures to sort by, previews of sources, preparation and recipe."""

from __future__ import annotations

import os
import zipfile
from collections import Counter
from collections.abc import Hashable
from itertools import islice
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk.data import Data, gather, references
from attentive_lens.desk.tasks.base import Result
from attentive_lens.errors import LensError, NotHere
from attentive_lens.images.augmentation import augment
from attentive_lens.images.faults.base import at_a_time
from attentive_lens.images.faults.poor import fine_detail
from attentive_lens.images.preparation import Levels, to_square
from attentive_lens.images.rows import Rows
from attentive_lens.images.sources import SOURCES, Found, Source, kind_of, readings_of
from attentive_lens.images.split import SETS
from attentive_lens.images.store import prepared
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.progress import Job, Progress
from attentive_lens.plan.reading import Reading
from attentive_lens.plan.settings import Preparation
from attentive_lens.workspace import Workspace

AT_ONCE = 64
LONGEST = 2400
"""Pixels of the longer side of a picture shown whole; larger ones are shown smaller."""
SHOWN = 64
"""Side of the pictures in a preview."""


def prepare(workspace: str) -> Job[Result]:
    """All images at the default plan's working size, N×S×S×C uint8, for the contact sheet."""
    place = Workspace.open(Path(workspace))
    pixels = yield from prepared(references(place, place.catalogue.images()), Plan().preparation, place.cache)
    if isinstance(pixels, Rows):
        return Result({"file": str(pixels.file)})
    return Result({}, {"pixels": pixels})


def preview(place: str, asked: dict[str, Any], count: int = 10) -> Job[Result]:
    """The first images of a source, in every way it can be read, before anything is imported.

    ``reading 0`` … are n×64×64×3 uint8, a few of each class, set in a border; the values tell the kind, each
    reading's settings and labels, how many images and classes there are, and what is wrong with some.
    """
    where = Path(place)
    kind = kind_of(where)
    ways, arrays = [], {}
    for number, reading in enumerate(readings_of(where, Reading.read(asked))):
        yield Progress(number, 0, "reading the first images")
        source = SOURCES[kind](where, reading)
        counts: Counter[str] = Counter()
        skipped: list[str] = []
        firsts: dict[str, list[Found]] = {}
        for item in source.find():
            if isinstance(item, Found):
                counts[item.label] += 1
                own = firsts.setdefault(item.label, [])
                if len(own) < count:
                    own.append(item)
            else:
                skipped.append(f"{item.file.name}: {item.reason}")
        shown, labels, problems = _first_pictures(source, firsts, count)
        arrays[f"reading {number}"] = shown
        ways.append(
            {
                "reading": reading.write(),
                "told": reading.told,
                "labels": labels,
                "images": counts.total(),
                "classes": dict(counts.most_common(1000)),
                "skipped": len(skipped),
                "problems": [*problems, *skipped[:5]],
            }
        )
    rough = [_roughness(arrays[f"reading {number}"]) for number in range(len(ways))]
    values = {"kind": kind, "title": SOURCES[kind].title, "ways": ways, "likeliest": int(np.argmin(rough))}
    return Result(values, arrays)


def _roughness(images: NDArray[np.uint8]) -> float:
    """Mean step between neighbours in n×S×S×3: pixels read in a wrong order jump about."""
    values = images.astype(np.int16)
    steps = [np.abs(np.diff(values, axis=axis)).mean() for axis in (1, 2)] if len(images) else [255.0]
    return float(np.sum(steps))


def _first_pictures(
    source: Source, firsts: dict[str, list[Found]], count: int
) -> tuple[NDArray[np.uint8], list[str], list[str]]:
    """Pictures of the classes in turn, their labels, and why some could not be opened."""
    turns = (item for turn in range(count) for own in firsts.values() for item in own[turn : turn + 1])
    pictures, labels, problems = [], [], []
    for item in islice(turns, count):
        try:
            pixels = source.picture(item.file, item.part, item.index).pixels
        except LensError as error:
            problems.append(f"{item.name.rsplit(os.sep, 1)[-1]}: {error.why}")
            continue
        pictures.append(to_square(pixels, Preparation(side=SHOWN, fit="border")))
        labels.append(item.label)
    shown = np.stack(pictures) if pictures else np.zeros((0, SHOWN, SHOWN, 3), np.uint8)
    return shown, labels, problems


def picture(workspace: str, image: int) -> Job[Result]:
    """One image as its file has it, H×W×3 uint8, made smaller if a side is above 2 400 pixels."""
    place = Workspace.open(Path(workspace))
    rows = place.catalogue.images()
    if not 1 <= image <= len(rows):
        raise NotHere(f"There is no image {image}", f"images are numbered 1 to {len(rows)}", "Choose one of these")
    yield Progress(0, 1, "opening the image")
    (reference,) = references(place, rows[image - 1 : image])
    if reference is None:
        raise NotHere(f"Image {image} cannot be shown", "its file is gone", "Put it back, and look for new files")
    pixels = reference.picture().pixels
    step = -(-max(pixels.shape[:2]) // LONGEST)
    return Result({"image": image, "step": step}, {"pixels": np.ascontiguousarray(pixels[::step, ::step])})


def measures(workspace: str) -> Job[Result]:
    """``brightness`` (0–1), ``contrast`` (deviation of brightness, 0–1) and ``sharpness`` of every image, N float32.

    Sharpness is the strength of detail one to two pixels wide as a part of the contrast, at the working size.
    """
    place = Workspace.open(Path(workspace))
    pixels = yield from prepared(references(place, place.catalogue.images()), Plan().preparation, place.cache)
    mapped = pixels.file if isinstance(pixels, Rows) else None
    kept = mapped.with_name(mapped.stem.replace("prepared-", "measures-") + ".npz") if mapped else None
    names = ("brightness", "contrast", "sharpness")
    if kept is not None and kept.exists():
        try:
            with np.load(kept, allow_pickle=False) as known:
                return Result({}, {name: known[name] for name in names})
        except (OSError, ValueError, KeyError, zipfile.BadZipFile):
            kept.unlink(missing_ok=True)
    found = {name: np.empty(len(pixels), np.float32) for name in names}
    for progress, places in at_a_time(len(pixels), AT_ONCE, "measuring images"):
        yield progress
        grey = np.asarray(pixels[places].mean(axis=3, dtype=np.float32) / 255, np.float32)
        found["brightness"][places] = grey.mean(axis=(1, 2))
        found["contrast"][places] = grey.std(axis=(1, 2))
        found["sharpness"][places] = fine_detail(grey)
    if kept is not None:
        own = kept.with_name(f".{kept.stem}.{os.getpid()}.npz")
        np.savez(own, **found)  # type: ignore[arg-type]  # its stub takes every keyword for its own
        own.replace(kept)
    return Result({}, found)


def class_means(workspace: str) -> Job[Result]:
    """``mean`` and ``deviation`` of each class's training images, pixel by pixel, K×S×S×3 uint8.

    Deviations are shown twice as strong, for they cannot pass half of white.
    """
    data = yield from gather(Workspace.open(Path(workspace)), Plan())
    classes = len(data.collection.classes)
    members = data.members("training")
    sums = np.zeros((classes, *data.pixels.shape[1:]))
    squares = np.zeros_like(sums)
    for progress, part in at_a_time(len(members), AT_ONCE, "averaging classes"):
        yield progress
        images = data.pixels[members[part]].astype(np.float64)
        np.add.at(sums, data.labels[members[part]], images)
        np.add.at(squares, data.labels[members[part]], images * images)
    counts = np.maximum(np.bincount(data.labels[members], minlength=classes), 1)[:, None, None, None]
    mean = sums / counts
    deviation = np.sqrt(np.maximum(squares / counts - mean**2, 0))
    arrays = {"mean": mean + 0.5, "deviation": np.minimum(deviation * 2 + 0.5, 255)}
    return Result({}, {name: array.astype(np.uint8) for name, array in arrays.items()})


def fits(workspace: str, plan: dict[str, Any], columns: int = 8) -> Job[Result]:
    """What a plan's preparation makes of some images, with each fit beside the others, and a batch's levels.

    ``stretch``, ``border`` and ``crop`` are n×S×S×C uint8 of the least square images there are; ``network`` is the
    fit in the plan as the network takes it, stretched to 0–255. The values are the mean and the deviation of each
    channel over 64 training images: about 0 and 1 with levels that centre.
    """
    design = Plan.read(plan)
    place = Workspace.open(Path(workspace))
    data = yield from gather(place, design)
    rows = data.collection.rows
    used = [k for k, name in enumerate(data.collection.sets) if name in SETS]
    chosen = sorted(used, key=lambda k: -abs(np.log(rows[k].width / rows[k].height)))[:columns]
    arrays: dict[str, NDArray[Any]] = {}
    opened = [reference.picture().pixels for reference in references(place, [rows[k] for k in chosen]) if reference]
    for fit in ("stretch", "border", "crop"):
        yield Progress(0, 1, "preparing images")
        arrays[fit] = np.stack([to_square(pixels, design.preparation.with_(fit=fit)) for pixels in opened])
    members = data.members("training")
    levels = Levels.measure(data.pixels[members[: 64 * AT_ONCE]], design.preparation)
    batch = levels.apply(data.pixels[members[np.linspace(0, len(members) - 1, min(64, len(members))).astype(int)]])
    seen = levels.apply(arrays[design.preparation.fit])
    low, high = seen.min(axis=(1, 2), keepdims=True), seen.max(axis=(1, 2), keepdims=True)
    arrays["network"] = ((seen - low) / np.maximum(high - low, 1e-6) * 255).astype(np.uint8)
    values = {"mean": batch.mean(axis=(0, 1, 2)).tolist(), "deviation": batch.std(axis=(0, 1, 2)).tolist()}
    return Result({**values, "images": [rows[k].number for k in chosen]}, arrays)


_shown: dict[Hashable, tuple[NDArray[np.uint8], list[int]]] = {}
"""The originals asked for last: a slider that moves asks for the same many times a second."""


def variants(workspace: str, plan: dict[str, Any], columns: int, rows: int, draw: int = 0) -> Job[Result]:
    """What a plan's recipe makes of some training images, prepared as the plan says.

    ``originals`` are ``columns`` images, of the classes in turn, N×S×S×C uint8; ``variants`` are ``rows`` draws of
    all of them, row by row.
    """
    design = Plan.read(plan)
    place = Workspace.open(Path(workspace))
    key = (place.folder, place.catalogue.stamp(), design.preparation, design.split, design.seed, columns)
    if key not in _shown:
        data = yield from gather(place, design)
        _shown.clear()
        _shown[key] = _some_of_each(data, columns)
    originals, chosen = _shown[key]
    drawn = [augment(originals, chosen, design.recipe, 0, draw * rows + row).images for row in range(rows)]
    pixels = (np.concatenate(drawn) * 255 + 0.5).astype(np.uint8)
    return Result({}, {"originals": originals, "variants": pixels})


def _some_of_each(data: Data, count: int) -> tuple[NDArray[np.uint8], list[int]]:
    """Training images of the classes in turn, with their places."""
    members = data.members("training")
    by_class = [members[data.labels[members] == k] for k in range(len(data.collection.classes))]
    turns = [own[turn] for turn in range(count) for own in by_class if turn < len(own)][:count]
    chosen = sorted((int(place) for place in turns), key=lambda place: int(data.labels[place]))
    return np.asarray(data.pixels[chosen]), chosen
