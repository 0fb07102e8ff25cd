"""Tasks about images: the contact sheet, measures to sort by, previews of sources, preprocessing and augmentation."""

from __future__ import annotations

import os
from collections import Counter
from dataclasses import dataclass, replace
from itertools import islice
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import keep, key_of, stored
from attentive_lens.core.numbering import place_of
from attentive_lens.core.recent import Recent
from attentive_lens.desk.images.data import Data, gather, references
from attentive_lens.desk.images.outlines import caution_of_crops
from attentive_lens.desk.map_colours import in_colour
from attentive_lens.desk.network.usual import looked_at
from attentive_lens.desk.requests.images import (
    Augment,
    Augmented,
    Averages,
    ClassAverages,
    Measure,
    Measures,
    OpenPicture,
    Picture,
    Prepare,
    Prepared,
    Preview,
    Previewed,
    ResizeModes,
    ResizeModesShown,
    WayToRead,
)
from attentive_lens.desk.training.cautions import caution_of_scale
from attentive_lens.errors import LensError, NotHere
from attentive_lens.images.decoding import Picture as Opened
from attentive_lens.images.display import read_display, usual_display
from attentive_lens.images.pixel_format import PixelArray, PixelFormat, are_ordinary, levels, of_levels, white_in
from attentive_lens.images.preprocessing import Preprocessor, resized
from attentive_lens.images.reading import Reading
from attentive_lens.images.rows import Rows
from attentive_lens.images.sources import SOURCES, Found, Source, kind_of, readings_of
from attentive_lens.images.split import SETS, part
from attentive_lens.images.store import prepared
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.workspace import Workspace

AT_ONCE = 64
LONGEST = 2400
"""Pixels of the longer side of a picture shown whole; larger ones are shown smaller."""
MOST_CLASSES = 1000
"""Counted by name in a preview."""
LEVELS = 64
"""Parts of the scale in which values are counted."""
SHOWN = 64
"""Side of the pictures in a preview."""


def prepare(request: Prepare) -> Job[Prepared]:
    """See `Prepare`."""
    place = Workspace.open(Path(request.workspace))
    rows = place.catalogue.images()
    pixels = yield from prepared(references(place, rows), looked_at(rows, place), place.cache)
    if isinstance(pixels, Rows):
        return Prepared(str(pixels.file), None)
    return Prepared(None, np.asarray(pixels))


def preview(request: Preview) -> Job[Previewed]:
    """See `Preview`."""
    where, count = Path(request.source), request.count
    kind = kind_of(where)
    ways = []
    for number, reading in enumerate(readings_of(where, Reading.read(request.reading))):
        yield Progress(number, 0, "reading the first images")
        source = SOURCES[kind](where, reading)
        counts: Counter[str] = Counter()
        given: list[str | None] = []
        of_class: list[str] = []
        skipped: list[str] = []
        firsts: dict[str, list[Found]] = {}
        for item in source.find():
            if isinstance(item, Found):
                counts[item.label] += 1
                given.append(item.set_name)
                of_class.append(item.label)
                first_of_class = firsts.setdefault(item.label, [])
                if len(first_of_class) < count:
                    first_of_class.append(item)
            else:
                skipped.append(f"{item.file.name}: {item.reason}")
        few_of_each = _first_pictures(source, firsts, count)
        classes = dict(counts.most_common(MOST_CLASSES))
        problems = [*few_of_each.problems, *skipped[:5]]
        ways.append(
            WayToRead(
                reading.write(),
                tuple(few_of_each.labels),
                counts.total(),
                len(skipped),
                classes,
                _sets(given, of_class),
                tuple(problems),
                few_of_each.shown,
                *few_of_each.scale(source.reading.pixel_format),
            )
        )
    if len({(way.reading["layout"], way.reading["order"]) for way in ways}) < 2:
        return Previewed(kind, SOURCES[kind].title, tuple(ways), 0)  # pictures cannot tell them apart
    rough = [_roughness(way.pixels) for way in ways]
    return Previewed(kind, SOURCES[kind].title, tuple(ways), int(np.argmin(rough)))


def _sets(given: list[str | None], classes: list[str]) -> dict[str, int]:
    """How many images each set gets, as the default plan splits what the source leaves open."""
    numbers = {word: number for number, word in enumerate(dict.fromkeys(classes))}
    plan = Plan()
    counts = Counter(part([numbers[word] for word in classes], given, plan.split, plan.seed, {}))
    return {name: counts[name] for name in SETS}


def _roughness(images: PixelArray) -> float:
    """Mean step between neighbours in n×H×W×3: pixels read in a wrong order jump about."""
    values = images.astype(np.int16)
    steps = [np.abs(np.diff(values, axis=axis)).mean() for axis in (1, 2)] if len(images) else [255.0]
    return float(np.sum(steps))


@dataclass(frozen=True)
class _Firsts:
    """Pictures of the classes in turn, their labels, and why some could not be opened; the images themselves."""

    shown: PixelArray
    labels: list[str]
    problems: list[str]
    images: list[Opened]

    def scale(self, own: PixelFormat) -> tuple[tuple[int, ...], float]:
        """Where values lie between black and white, and the part of them beyond; nothing of ordinary pictures."""
        if own.is_plain or not self.images:
            return (), 0.0
        white = white_in(self.images[0].pixels)
        counts = np.sum([np.histogram(image.pixels, LEVELS, (0, white))[0] for image in self.images], axis=0)
        values = sum(image.pixels.size for image in self.images)
        return tuple(counts.tolist()), sum(image.beyond for image in self.images) / max(1, values)


def _first_pictures(source: Source, firsts: dict[str, list[Found]], count: int) -> _Firsts:
    """A few images of every class."""
    turns = (item for turn in range(count) for items in firsts.values() for item in items[turn : turn + 1])
    pictures, labels, problems, images = [], [], [], []
    channels = source.reading.channel_names
    names = () if are_ordinary(channels) else channels
    small = Preprocessing(input_size=SHOWN, resize_mode="letterbox", channel_names=names)
    for item in islice(turns, count):
        try:
            picture = source.picture(item.file, item.part, item.index)
        except LensError as error:
            problems.append(f"{item.name.rsplit(os.sep, 1)[-1]}: {error.why}")
            continue
        pictures.append(in_colour(resized(picture.pixels, small, channels), usual_display(channels)))
        labels.append(item.label)
        images.append(picture)
    shown = np.stack(pictures) if pictures else np.zeros((0, SHOWN, SHOWN, 3), np.uint8)
    return _Firsts(shown, labels, problems, images)


def open_picture(request: OpenPicture) -> Job[Picture]:
    """See `OpenPicture`."""
    place, image = Workspace.open(Path(request.workspace)), request.image
    rows = place.catalogue.images()
    if not 1 <= image <= len(rows):
        raise NotHere(f"There is no image {image}", f"images are numbered 1 to {len(rows)}", "Choose one of these")
    yield Progress(0, 1, "opening the image")
    (reference,) = references(place, rows[place_of(image) : image])
    if reference is None:
        raise NotHere(f"Image {image} cannot be shown", "its file is gone", "Put it back, and rescan the source")
    pixels = reference.picture().pixels
    step = -(-max(pixels.shape[:2]) // LONGEST)
    shown, original = np.ascontiguousarray(pixels[::step, ::step]), reference.stored()
    if original is None:
        return Picture(image, step, shown)
    return Picture(image, step, shown, original.low, original.high, original.bits)


def measure(request: Measure) -> Job[Measures]:
    """See `Measure`; sharpness is the strength of detail one to two pixels wide, at the input size."""
    place = Workspace.open(Path(request.workspace))
    rows = place.catalogue.images()
    pixels = yield from prepared(references(place, rows), looked_at(rows, place), place.cache)
    file = place.cache / "measures.npz"
    key = key_of("measures", pixels.file.name) if isinstance(pixels, Rows) else ""
    known = stored(file, Measures, key) if key else None
    if known is not None:
        return known
    brightness, contrast, sharpness = (np.empty(len(pixels), np.float32) for _ in range(3))
    from attentive_lens.images.faults.base import at_a_time  # only here: the first contact sheet comes sooner without
    from attentive_lens.images.faults.poor import fine_detail

    for progress, places in at_a_time(len(pixels), "measuring images"):
        yield progress
        few = pixels[places]
        grey = np.asarray(few.mean(axis=3, dtype=np.float32) / white_in(few), np.float32)
        brightness[places] = grey.mean(axis=(1, 2))
        contrast[places] = grey.std(axis=(1, 2))
        sharpness[places] = fine_detail(grey)
    measures = Measures(brightness, contrast, sharpness)
    if key:
        keep(file, measures, key)
    return measures


def class_averages(request: ClassAverages) -> Job[Averages]:
    """See `ClassAverages`; standard deviations are shown twice as strong, for they cannot pass half of white."""
    place = Workspace.open(Path(request.workspace))
    data = yield from gather(place, replace(Plan(), preprocessing=looked_at(place.catalogue.images(), place)))
    collected, members = data.collection, data.members("training")
    kinds = len(collected.kinds)
    sums = np.zeros((kinds, *data.pixels.shape[1:]))
    squares = np.zeros_like(sums)
    from attentive_lens.images.faults.base import at_a_time  # as above

    for progress, some in at_a_time(len(members), "averaging classes"):
        yield progress
        images, labels = levels(data.pixels[members[some]]), data.labels[members[some]]
        for kind in {kind for label in np.unique(labels).tolist() for kind in collected.kinds_of(label)}:
            of_kind = images[collected.of_kind(kind)[members[some]]]
            sums[kind] += of_kind.sum(axis=0)
            squares[kind] += np.square(of_kind).sum(axis=0)
    numbers = [collected.count_of_kind("training", kind) for kind in range(kinds)]
    counts = np.maximum(np.array(numbers, np.int64), 1)[:, None, None, None]
    mean = sums / counts
    std = np.sqrt(np.maximum(squares / counts - mean**2, 0))
    return Averages(of_levels(mean, data.pixels.dtype), of_levels(std * 2, data.pixels.dtype))


def resize_modes(request: ResizeModes) -> Job[ResizeModesShown]:
    """See `ResizeModes`."""
    plan = Plan.read(request.plan)
    place = Workspace.open(Path(request.workspace))
    data = yield from gather(place, plan)
    rows = data.collection.rows
    used = [k for k, name in enumerate(data.collection.sets) if name in SETS]
    chosen = sorted(used, key=lambda k: -abs(np.log(rows[k].width / rows[k].height)))[: request.columns]
    opened = [
        (reference.seen(), reference.source.reading.channel_names)
        for reference in references(place, [rows[k] for k in chosen], plan.preprocessing)
        if reference
    ]
    modes: dict[str, PixelArray] = {}
    for mode in Preprocessing.specs()["resize_mode"].choices:
        yield Progress(0, 1, "preparing images")
        settings = plan.preprocessing.with_(resize_mode=mode)
        modes[mode] = np.stack([resized(pixels, settings, channels) for pixels, channels in opened])
    members = data.members("training")
    preprocessor = Preprocessor.measured(data.pixels[members[: 64 * AT_ONCE]], plan.preprocessing)
    few = members[np.linspace(0, len(members) - 1, min(64, len(members))).astype(int)]
    batch = preprocessor.apply(data.pixels[few])
    seen = preprocessor.apply(modes[plan.preprocessing.resize_mode])
    low, high = seen.min(axis=(1, 2), keepdims=True), seen.max(axis=(1, 2), keepdims=True)
    stretched = ((seen - low) / np.maximum(high - low, 1e-6) * 255).astype(np.uint8)
    whole = read_display(place.folder).with_(level=0.5, width=1.0)
    network = whole.shown(stretched)
    mean, std = batch.mean(axis=(0, 1, 2)).tolist(), batch.std(axis=(0, 1, 2)).tolist()
    seen_rows = [rows[k] for k in used]
    cautions = (
        caution_of_scale(plan.preprocessing, seen_rows),
        caution_of_crops(place, plan.preprocessing, (row.number for row in seen_rows)),
    )
    caution = "\n".join(filter(None, cautions))
    return ResizeModesShown(tuple(rows[k].number for k in chosen), tuple(mean), tuple(std), modes, network, caution)


_ORIGINALS: Recent[tuple[NDArray[np.uint8], list[int]]] = Recent(1)
"""The originals asked for last: a slider that moves asks for the same many times a second."""


def augmented(request: Augment) -> Job[Augmented]:
    """See `Augment`."""
    plan = Plan.read(request.plan)
    place = Workspace.open(Path(request.workspace))
    key = (place.folder, place.catalogue.stamp(), plan.preprocessing, plan.split, plan.seed, request.columns)
    known = _ORIGINALS.known(key)
    if known is None:
        data = yield from gather(place, plan)
        known = _ORIGINALS.keep(key, _some_of_each(data, request.columns))
    originals, chosen = known
    draws = range(request.draw * request.rows, (request.draw + 1) * request.rows)
    from attentive_lens.images.augmentation import augment  # as above

    steps = [step for step in plan.augmentation if step.acts_on(plan.preprocessing)]
    drawn = [augment(originals, chosen, steps, 0, draw).images for draw in draws]
    return Augmented(originals, of_levels(np.concatenate(drawn) * np.float32(255), originals.dtype))


def _some_of_each(data: Data, count: int) -> tuple[NDArray[np.uint8], list[int]]:
    """Training images of the classes in turn, with their places."""
    members = data.members("training")
    by_class = [members[data.labels[members] == k] for k in range(len(data.collection.classes))]
    turns = [places[turn] for turn in range(count) for places in by_class if turn < len(places)][:count]
    chosen = sorted((int(place) for place in turns), key=lambda place: int(data.labels[place]))
    return np.asarray(data.pixels[chosen]), chosen
