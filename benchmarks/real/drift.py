"""Is a day told whose images are taken otherwise, and is nothing told of a day like any other?

On every set of `sets.py` the plan that a new workspace begins with is trained. Days of 30, 100 and 300 images are
drawn, and compared with held-out images as `serve`, `watch-folder` and `drift` do. Printed for each set and size of a
day, how many of the days were told to differ:

none      the validation images parted by chance, one half being the day and the other what it is compared with: no
          day differs, and of a thousand one may be told
mix       the same where only half of the classes come on that day: another mix, but no other images
test      held-out images of other sources, which may differ somewhat
…         the test images, changed: darker, flatter, out of focus, noisy, saved as JPEG, in another light, from nearer
others    test images of another set

    python benchmarks/real/drift.py SETS WORK [SET ...]
"""

from __future__ import annotations

import argparse
import io
import os
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from following import place_for, trained
from PIL import Image
from scipy.ndimage import gaussian_filter

from attentive_lens.core.jobs import finish
from attentive_lens.core.random import random_generator
from attentive_lens.desk.network.usual import usual_plan
from attentive_lens.desk.results.drift import HeldOut, held_out
from attentive_lens.desk.results.models import model_and_data
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.explaining.channel_statistics import channel_statistics
from attentive_lens.images.decoding import decode
from attentive_lens.images.preprocessing import resized
from attentive_lens.predicting import Predictor
from attentive_lens.scoring.drift import DriftCounts, DriftReference, drift

SETS = ["materials", "symbols", "planets", "laboratory", "terrain", "head"]
SIZES, DAYS, MOST = (30, 100, 300), 100, 600
AT_ONCE = 64


def _jpeg(image: np.ndarray, quality: int) -> np.ndarray:
    stream = io.BytesIO()
    Image.fromarray(image).save(stream, "JPEG", quality=quality)
    return np.asarray(Image.open(stream).convert("RGB"))


def _nearer(image: np.ndarray, part: float) -> np.ndarray:
    height, width = image.shape[:2]
    rows, columns = round(height * part), round(width * part)
    top, left = (height - rows) // 2, (width - columns) // 2
    inner = Image.fromarray(image[top : top + rows, left : left + columns])
    return np.asarray(inner.resize((width, height), Image.Resampling.BILINEAR))


def _levels(values: np.ndarray) -> np.ndarray:
    return np.clip(values + 0.5, 0, 255).astype(np.uint8)


NOISE = random_generator(0, "noise of a camera")
CHANGES: dict[str, Callable[[np.ndarray], np.ndarray]] = {
    "darker 0.9": lambda image: _levels(image * 0.9),
    "darker 0.75": lambda image: _levels(image * 0.75),
    "flatter 0.8": lambda image: _levels((image - image.mean()) * 0.8 + image.mean()),
    "focus 0.7": lambda image: _levels(gaussian_filter(image.astype(np.float32), (0.7, 0.7, 0))),
    "noise 6": lambda image: _levels(image + NOISE.normal(0, 6, image.shape)),
    "JPEG 30": lambda image: _jpeg(image, 30),
    "light": lambda image: _levels(image * (1.1, 1.0, 0.9)),
    "nearer 0.85": lambda image: _nearer(image, 0.85),
}


class Measured:
    """A set's run, and measures of images by it."""

    def __init__(self, sets: Path, work: Path, name: str) -> None:
        place = place_for(sets, work, name, "drift", 1)
        plan = replace(usual_plan(place).changed({"training.threads": 2}), seed=1)
        runs = place.runs()
        run = runs[0] if runs else trained(place, plan)
        self.model, _ = finish(model_and_data(place, run))
        self.held: HeldOut = finish(held_out(place, run))

    def of(self, pictures: list[np.ndarray]) -> tuple[np.ndarray, np.ndarray]:
        """Measures N×M and classes said N."""
        values, predicted = [], []
        with ThreadPool(2) as pool:
            predictor = Predictor.of(self.model, pool)
            for first in range(0, len(pictures), AT_ONCE):
                part = pictures[first : first + AT_ONCE]
                pixels = np.stack([resized(picture, self.model.preprocessor.settings) for picture in part])
                images = predictor.prepare(pixels)
                scores = predictor.scores(images)
                labels = predictor.predicted(scores)
                sure = predictor.checked(scores)[np.arange(len(labels)), labels]
                values.append(self.held.values(pixels, channel_statistics(predictor, images), sure)[0])
                predicted.append(labels)
        return np.concatenate(values), np.concatenate(predicted)


def pictures(work: Path, name: str, part: str) -> list[np.ndarray]:
    files = sorted((work / "images" / name / part).glob("*/*.png"))
    return [decode(file).pixels for file in files[:: max(1, len(files) // MOST)][:MOST]]


def days_told(
    reference: DriftReference, values: np.ndarray, predicted: np.ndarray, size: int, rng: np.random.Generator
) -> tuple[float, float]:
    """Part of the days told to differ, and of those told to have another mix."""
    told = mixes = 0
    for _ in range(DAYS):
        chosen = rng.choice(len(values), size, replace=len(values) < size)
        counts = DriftCounts.empty(reference)
        counts.add(reference, values[chosen], predicted[chosen])
        outcome = drift("", counts, reference)
        told += outcome.differs
        mixes += outcome.mix_differs
    return told / DAYS, mixes / DAYS


def halves(reference: DriftReference, size: int, rng: np.random.Generator, some: bool) -> tuple[float, float]:
    """The same where the validation images are parted by chance, as many as there are."""
    told = mixes = 0
    few = min(size, len(reference) // 2)
    for _ in range(DAYS):
        order = rng.permutation(len(reference))
        own, rest = order[:few], order[few:]
        if some:
            classes = rng.permutation(len(reference.classes))[: max(1, len(reference.classes) // 2)]
            inside = np.isin(reference.predicted, classes)
            own = order[inside[order]][:few]
            rest = np.setdiff1d(order, own)
            if len(own) < 20:
                continue
        other = DriftReference.of(
            reference.measures, reference.classes, reference.values[rest], reference.predicted[rest]
        )
        counts = DriftCounts.empty(other)
        counts.add(other, reference.values[own], reference.predicted[own])
        outcome = drift("", counts, other)
        told += outcome.differs
        mixes += outcome.mix_differs
    return told / DAYS, mixes / DAYS


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("sets", type=Path)
    parser.add_argument("work", type=Path)
    parser.add_argument("names", nargs="*", default=SETS)
    words = parser.parse_args()
    rng = random_generator(0, "days")
    for name in words.names:
        measured = Measured(words.sets, words.work, name)
        reference = measured.held.reference
        shown = pictures(words.work, name, "test")
        rows = {"test": measured.of(shown)}
        rows |= {change: measured.of([made(image) for image in shown]) for change, made in CHANGES.items()}
        other = SETS[(SETS.index(name) + 1) % len(SETS)]
        if (words.work / "images" / other / "test").exists():
            rows[f"others ({other})"] = measured.of(pictures(words.work, other, "test"))
        print(
            f"{name}: {len(reference)} held-out images, {len(shown)} test images; days told of {SIZES} images",
            flush=True,
        )
        for what, some in (("none", False), ("mix", True)):
            outcome = [halves(reference, size, rng, some) for size in SIZES]
            print(f"  {what:20} {' '.join(f'{told:5.0%} (mix {mix:4.0%})' for told, mix in outcome)}", flush=True)
        for what, (values, predicted) in rows.items():
            outcome = [days_told(reference, values, predicted, size, rng) for size in SIZES]
            counts = DriftCounts.empty(reference)
            counts.add(reference, values, predicted)
            first = next(iter(drift("", counts, reference).shifts))
            farthest = f"{first.measure} {first.distance:.2f}"
            print(
                f"  {what:20} {' '.join(f'{told:5.0%} (mix {mix:4.0%})' for told, mix in outcome)}  {farthest}",
                flush=True,
            )


if __name__ == "__main__":
    main()
