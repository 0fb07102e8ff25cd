"""Tasks of runs whose networks draw."""

from __future__ import annotations

import math
from pathlib import Path
from statistics import NormalDist

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.random import random_generator
from attentive_lens.desk.images.data import Data
from attentive_lens.desk.requests.drawing import (
    ARRAYS,
    PICTURES,
    Decode,
    DrawImages,
    Drawn,
    Encoded,
    EncodeImages,
    Reconstruct,
    Reconstructed,
)
from attentive_lens.desk.results.drawing_files import (
    check_ending,
    read_codes,
    sheet,
    write_arrays,
    write_codes,
    write_picture,
)
from attentive_lens.desk.results.models import AT_ONCE, THREADS, class_number, model_and_data, model_of_run
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.encoding import Coder
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadUsage, BadValue, NotHere
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.images.pixel_format import PixelArray, levels, of_levels
from attentive_lens.workspace import Run, Workspace

TABLE = (".csv",)


def coder_of(model: ModelFile, run: int, encodes: bool = False) -> Coder:
    """The two halves of a model that draws.

    Raises
    ------
    BadUsage
        If it answers classes, or draws of noise where images are to be given codes.
    """
    if not model.draws:
        why = "its network answers classes (task=classify)"
        remedy = "Choose a run with task=encode or task=generate, as network=variational or generator trains"
        raise BadUsage(f"Run {run} draws no images", why, remedy)
    coder = Coder(model.network())
    if encodes and not coder.encodes:
        why = "its network draws of noise (task=generate)"
        raise BadUsage(f"Run {run} gives images no codes", why, "Choose a run with task=encode")
    return coder


def random_codes(place: Workspace, run: Run, coder: Coder, rng: np.random.Generator, count: int) -> Job[Array]:
    """So many codes or noises, like those of training images where codes have no distribution of their own."""
    codes = coder.random_codes(rng, count)
    if coder.encodes and not coder.is_variational:
        codes = yield from _like_images(place, run, coder, codes)
    return codes


def draw(request: DrawImages) -> Job[Drawn]:
    """See `DrawImages`."""
    check_ending(request.file, (*PICTURES, *ARRAYS))
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    model = model_of_run(run)
    coder = coder_of(model, run.number, request.way == "between")
    labels = None
    if request.way == "between":
        codes = yield from _between(place, run, coder, request)
        of, columns = f"the way from image {request.first} to image {request.second}", len(codes)
    elif request.way == "manifold":
        codes, of = _manifold(coder, request)
        columns = math.isqrt(len(codes))
        if coder.classes:
            name = request.class_name or model.classes[0]
            labels, of = _labels(model, coder, name, len(codes)), f"{of}, all {name}"
    else:
        random = random_generator(request.seed, "codes for samples")
        named = coder.classes and not request.class_name
        each = max(1, request.count // coder.classes) if named else request.count
        codes = yield from random_codes(place, run, coder, random, each)
        columns = each if named else math.ceil(math.sqrt(each))
        of = f"{request.count} random codes, seed {request.seed}"
        if named:  # the same noise for every class
            codes, labels = np.tile(codes, (coder.classes, 1)), np.repeat(np.arange(coder.classes), each)
            of = f"{each} of each class, of the same noise, seed {request.seed}"
        elif request.class_name:
            labels, of = _labels(model, coder, request.class_name, each), f"{of}, all {request.class_name}"
    return (yield from _drawn(model, coder, run.number, codes, labels, of, columns, request.file))


def decode(request: Decode) -> Job[Drawn]:
    """See `Decode`."""
    check_ending(request.file, (*PICTURES, *ARRAYS))
    run = Workspace.open(Path(request.workspace)).run(request.run)
    model = model_of_run(run)
    coder = coder_of(model, run.number)
    if not request.values and not request.codes:
        raise BadUsage("Nothing is drawn", "no file of codes is named", "Name one, as «encode» writes it")
    codes = np.array([request.values], np.float32) if request.values else read_codes(Path(request.codes))
    if codes.ndim != 2 or codes.shape[1] != coder.size or not len(codes):
        why = f"they are {'×'.join(map(str, codes.shape))} numbers, and an image is drawn of {coder.size}"
        raise BadValue(
            "The codes do not fit the run", why, f"Give rows of {coder.size} numbers, as «encode» writes them"
        )
    if not np.isfinite(codes).all():
        raise BadValue("The codes do not fit the run", "some of them are no numbers", "Take these rows out")
    of = f"codes of {Path(request.codes).name}" if request.codes else "codes given"
    labels = _labels(model, coder, request.class_name, len(codes))
    columns = math.ceil(math.sqrt(len(codes)))
    return (yield from _drawn(model, coder, run.number, codes, labels, of, columns, request.file))


def encode(request: EncodeImages) -> Job[Encoded]:
    """See `EncodeImages`."""
    check_ending(request.file, (*TABLE, *ARRAYS))
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    model, data, coder, members = yield from _of_set(place, run, request.on)
    noise = coder.evaluation_noise(run.plan().seed, len(members))
    codes, deviations, parts, estimates = [], [], [], []
    more = random_generator(run.plan().seed, "codes of an estimate")
    with ThreadPool(THREADS) as thread_pool:
        for first in range(0, len(members), AT_ONCE):
            rows = members[first : first + AT_ONCE]
            pixels = data.pixels[rows]
            statistics = coder.encode(model.preprocessor.apply(pixels), thread_pool)
            targets = model.preprocessor.targets(pixels)
            codes.append(coder.means(statistics))
            spread = np.exp(statistics[:, coder.size :] / 2) if coder.is_variational else np.zeros_like(codes[-1])
            deviations.append(spread)
            own = noise[first : first + len(rows)]
            parts.append(np.stack(coder.bound(statistics, targets, own, thread_pool), axis=1))
            if request.samples and coder.is_variational:
                drawn = (more.standard_normal(own.shape, np.float32) for _ in range(request.samples))
                estimates.append(coder.weighted_bound(statistics, targets, drawn, thread_pool))
            yield Progress(first + len(rows), len(members), "encoding")
    losses = np.concatenate(parts)
    reconstruction, divergence = losses.mean(axis=0).tolist()
    result = Encoded(
        run.number,
        request.on,
        len(members),
        coder.size,
        -reconstruction - divergence,
        reconstruction,
        divergence,
        request.samples if estimates else 0,
        float(np.concatenate(estimates).mean()) if estimates else None,
        request.file,
        model.classes,
        members + 1,
        data.labels[members],
        np.concatenate(codes).astype(np.float32),
        np.concatenate(deviations).astype(np.float32),
        losses.sum(axis=1),
    )
    if request.file:
        write_codes(Path(request.file), result, [data.collection.rows[at].file for at in members])
    return result


def reconstruct(request: Reconstruct) -> Job[Reconstructed]:
    """See `Reconstruct`."""
    check_ending(request.file, PICTURES)
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    model, data, coder, members = yield from _of_set(place, run, request.on)
    squares = []
    with ThreadPool(THREADS) as thread_pool:

        def again(rows: NDArray[np.int64]) -> tuple[PixelArray, Array]:
            pixels = data.pixels[rows]
            statistics = coder.encode(model.preprocessor.apply(pixels), thread_pool)
            return pixels, coder.decode(coder.means(statistics), thread_pool)

        for first in range(0, len(members), AT_ONCE):
            rows = members[first : first + AT_ONCE]
            pixels, drawn = again(rows)
            gap = drawn - model.preprocessor.targets(pixels)
            squares.append((gap.reshape(len(rows), -1).astype(np.float64) ** 2).mean(axis=1))
            yield Progress(first + len(rows), len(members), "drawing images again")
        each = np.concatenate(squares)
        order = {"worst": np.argsort(-each, kind="stable"), "best": np.argsort(each, kind="stable")}
        chosen = order.get(request.first, np.arange(len(members)))[: request.most]
        shown = [again(members[chosen[first : first + AT_ONCE]]) for first in range(0, max(1, len(chosen)), AT_ONCE)]
    images = np.concatenate([pixels for pixels, _ in shown])
    drawn_again = np.concatenate([model.preprocessor.pixels(drawn) for _, drawn in shown])
    labels = data.labels[members]
    by_class = {
        name: float(np.sqrt(each[labels == k].mean())) for k, name in enumerate(model.classes) if (labels == k).any()
    }
    if request.file:
        gaps = of_levels(255 - np.abs(levels(images) - levels(drawn_again)), images.dtype)
        triples = np.stack([images, drawn_again, gaps], axis=1).reshape(-1, *images.shape[1:])
        write_picture(Path(request.file), sheet(triples, 3 * max(1, round(math.sqrt(len(images) / 3)))))
    return Reconstructed(
        run.number,
        request.on,
        len(members),
        float(np.sqrt(each.mean())),
        by_class,
        model.classes,
        request.file,
        members[chosen] + 1,
        labels[chosen],
        np.sqrt(each[chosen]),
        images,
        drawn_again,
    )


def _of_set(place: Workspace, run: Run, on: str) -> Job[tuple[ModelFile, Data, Coder, NDArray[np.int64]]]:
    """A run's model, its images, its halves, and the places of a set's images."""
    coder = coder_of(model_of_run(run), run.number, encodes=True)
    model, data = yield from model_and_data(place, run)
    members = data.members(on)
    if not len(members):
        raise NotHere("There is nothing to draw again", f"no image is in the {on} set", "Choose another set")
    return model, data, coder, members


def _between(place: Workspace, run: Run, coder: Coder, request: DrawImages) -> Job[Array]:
    """Codes on the straight way from one image's to another's."""
    model, data = yield from model_and_data(place, run)
    rows = np.array([data.place(number) for number in (request.first, request.second)])
    ends = coder.means(coder.encode(model.preprocessor.apply(data.pixels[rows])))
    steps = np.linspace(0, 1, max(2, request.count), dtype=np.float32)[:, None]
    return np.asarray((1 - steps) * ends[0] + steps * ends[1], np.float32)


def _manifold(coder: Coder, request: DrawImages) -> tuple[Array, str]:
    """A grid of two codes at the quantiles of the standard normal distribution, all others 0 (Kingma & Welling 2014,
    appendix A).
    """
    size = coder.size
    if max(request.across, request.down) > size or request.across == request.down:
        why = f"codes {request.across} and {request.down} were asked for, and an image is drawn of {size}"
        raise BadValue(
            "There is no such grid", why, "Choose two different codes of these" if size > 1 else "Draw samples"
        )
    side = max(2, math.isqrt(request.count))
    normal = NormalDist()
    quantiles = np.array([normal.inv_cdf((k + 0.5) / side) for k in range(side)], np.float32)
    codes = np.zeros((side, side, size), np.float32)
    codes[..., request.across - 1] = quantiles
    codes[..., request.down - 1] = quantiles[::-1, None]
    return codes.reshape(-1, size), f"codes {request.across} across and {request.down} down, {side}×{side} of them"


def _like_images(place: Workspace, run: Run, coder: Coder, noise: Array) -> Job[Array]:
    """Random codes with the means and deviations of the training images' own, where codes have no distribution."""
    model, data = yield from model_and_data(place, run)
    members = data.drawn(data.members("training"), 16 * AT_ONCE)
    codes = [
        coder.means(coder.encode(model.preprocessor.apply(data.pixels[members[first : first + AT_ONCE]])))
        for first in range(0, len(members), AT_ONCE)
    ]
    own = np.concatenate(codes)
    return np.asarray(own.mean(axis=0) + noise * own.std(axis=0), np.float32)


def _labels(model: ModelFile, coder: Coder, name: str, count: int) -> NDArray[np.int64] | None:
    """Classes of so many drawings: the one named, else each in turn; None where the network is told none.

    Raises
    ------
    BadUsage
        If a class is named and it is told none, or not that one.
    """
    if not coder.classes:
        if name:
            why = "its network is told no class"
            raise BadUsage("No class can be chosen", why, "Leave it out, or train «generator, by class»")
        return None
    if not name:
        return np.arange(count) % coder.classes
    return np.full(count, class_number(model, name))


def _drawn(
    model: ModelFile,
    coder: Coder,
    run: int,
    codes: Array,
    labels: NDArray[np.int64] | None,
    of: str,
    columns: int,
    file: str,
) -> Job[Drawn]:
    """Images of codes and classes, written where a file is named."""
    parts = []
    with ThreadPool(THREADS) as thread_pool:
        for first in range(0, len(codes), AT_ONCE):
            part = slice(first, first + AT_ONCE)
            own = None if labels is None else labels[part]
            parts.append(model.preprocessor.pixels(coder.decode(codes[part], thread_pool, own)))
            yield Progress(min(len(codes), first + AT_ONCE), len(codes), "drawing")
    images = np.concatenate(parts)
    if file.lower().endswith(PICTURES):
        write_picture(Path(file), sheet(images, columns))
    elif file:
        classes = {} if labels is None else {"labels": labels}
        write_arrays(Path(file), {"images": images, "codes": codes, **classes}, "images")
    own = np.full(len(images), -1) if labels is None else labels
    return Drawn(run, of, columns, coder.size, file, model.classes, images, codes.astype(np.float32), own)
