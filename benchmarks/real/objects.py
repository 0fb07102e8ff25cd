"""Is it told rightly which answers rest on the object and which on the ground about it?

Pieces of real pictures, cut out along a smooth line, lie at a random place on real pictures of another set. The piece
tells the class; the ground tells it too, in so many of the images as is said, and never in the others. A network is
trained on each, and every validation image is judged twice. *So it is*: other classes' pieces are put on its whole
ground, which only this script can; the answer rests on the ground where it goes to most of them. *As told*: what the
program makes of the outlines. Printed: how many of those told are so, and how many that are so are told; what maps
alone would tell (less of the map in the object than in other images' objects), as the area under the curve, where 0.5
is chance. Where the ground tells nothing, none should be told.

Limits were set on pieces of materials on planets; the other two pairs judge.

    python benchmarks/real/objects.py FOLDER [--epochs 12]
"""

from __future__ import annotations

import argparse
import os
import tempfile
from dataclasses import dataclass
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from scipy.ndimage import gaussian_filter
from scipy.stats import rankdata

from attentive_lens.core.jobs import finish
from attentive_lens.core.random import random_generator
from attentive_lens.desk.images.outlines import take_outlines
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.objects import MeasureObjects, ObjectsMeasured
from attentive_lens.desk.results.models import model_of
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.explaining.trials import predicted_of
from attentive_lens.plan.plan import Plan
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Workspace

PAIRS = {"materials": "planets", "planets": "laboratory", "terrain": "head"}
"""Set of the pieces, and of the grounds."""
TOLD_BY_GROUND = (0.0, 0.6, 0.95)
CLASSES, SIDE = 5, 64
TRAINING, HELD_OUT = 900, 300
OTHERS = 16
"""Grounds and pieces with which an image is judged."""


@dataclass(frozen=True)
class Scene:
    """A piece on a ground, S×S×3 uint8, and where the piece is, S×S."""

    piece: NDArray[np.uint8]
    inside: NDArray[np.bool_]
    ground: NDArray[np.uint8]
    label: int
    ground_label: int

    def on(self, ground: NDArray[np.uint8]) -> NDArray[np.uint8]:
        """The piece on a ground."""
        return np.where(self.inside[..., None], self.piece, ground)


def pictures(folder: Path) -> list[list[Path]]:
    """Files of the largest classes."""
    by_class = sorted((sorted(each.glob("*.png")) for each in folder.iterdir() if each.is_dir()), key=len)
    return by_class[-CLASSES:]


def opened(file: Path) -> NDArray[np.uint8]:
    """At the scenes' size, over middle grey."""
    with Image.open(file) as picture:
        plain = Image.new("RGBA", picture.size, (128, 128, 128, 255))
        plain.alpha_composite(picture.convert("RGBA"))
    return np.asarray(plain.convert("RGB").resize((SIDE, SIDE), Image.Resampling.BILINEAR))


def scenes(pieces: list[list[Path]], grounds: list[list[Path]], part: float, count: int, seed: int) -> list[Scene]:
    """So many; ``part`` of them with a ground that tells the class."""
    random = random_generator(seed, "scenes", round(100 * part))
    result = []
    for k in range(count):
        label = k % len(pieces)
        own = random.random() < part
        ground_label = label if own else int(random.choice([c for c in range(len(grounds)) if c != label or part == 0]))
        down, across = random.integers(SIDE // 3, SIDE - SIDE // 3, 2)
        apart = np.hypot(*(np.mgrid[:SIDE, :SIDE] - np.array([down, across])[:, None, None]))
        bumps = gaussian_filter(random.standard_normal((SIDE, SIDE)), 6) * 60
        inside = apart + bumps < random.uniform(0.2, 0.28) * SIDE
        chosen = (each[int(random.integers(len(each)))] for each in (pieces[label], grounds[ground_label]))
        piece, ground = (opened(file) for file in chosen)
        result.append(Scene(piece, inside, ground, label, ground_label))
    return result


def workspace(folder: Path, sets: dict[str, list[Scene]]) -> Workspace:
    """A workspace of scenes, with their masks."""
    for name, own in sets.items():
        for k, scene in enumerate(own):
            file = folder / "images" / name / f"class {scene.label}" / f"{name}-{k:04d}.png"
            mask = folder / "masks" / file.name
            for each in (file, mask):
                each.parent.mkdir(parents=True, exist_ok=True)
            Image.fromarray(scene.on(scene.ground)).save(file)
            Image.fromarray(scene.inside.astype(np.uint8) * 255).save(mask)
    made = finish(make_workspace(folder / "workspace", folder / "images")).workspace
    finish(take_outlines(made, folder / "masks"))
    return made


def so_it_is(predictor: Predictor, held: list[Scene], predicted: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which answers rest on the ground."""
    random = random_generator(0, "judged")
    result = np.zeros(len(held), bool)
    for k, scene in enumerate(held):
        others = [j for j in range(len(held)) if held[j].label != predicted[k] and predicted[j] != predicted[k]]
        if others:
            made = [held[j].on(scene.ground) for j in random.choice(others, OTHERS)]
            result[k] = (predicted_of(predictor, np.stack(made)) == predicted[k]).mean() > 0.5
    return result


def told(result: ObjectsMeasured, numbers: list[int]) -> tuple[NDArray[np.bool_], NDArray[np.float64]]:
    """What is told of images: whether the answer rests on the rest, and how much less of the map is in the object."""
    by_image = {each.image: each for each in result.images}
    own = [by_image[number] for number in numbers]
    return np.array([each.on_rest for each in own]), np.array(
        [(each.elsewhere or 0) - (each.share or 0) for each in own]
    )


def area_under_curve(truth: NDArray[np.bool_], values: NDArray[np.float64]) -> float:
    """Probability that a value of those that are so exceeds one of the others (Mann & Whitney 1947)."""
    many, few = int(truth.sum()), int((~truth).sum())
    return float((rankdata(values)[truth].sum() - many * (many + 1) / 2) / (many * few))


def judged(folder: Path, pair: tuple[str, str], part: float, epochs: int) -> None:
    """Train and judge one pair."""
    pieces, grounds = (pictures(folder / name) for name in pair)
    halves = [([each[::2] for each in side], [each[1::2] for each in side]) for side in (pieces, grounds)]
    training = scenes(halves[0][0], halves[1][0], part, TRAINING, 1)
    held = scenes(halves[0][1], halves[1][1], part, HELD_OUT, 2)
    with tempfile.TemporaryDirectory() as name:
        place = workspace(Path(name), {"training": training, "validation": held})
        changes = {"training.epochs": epochs, "preprocessing.input_size": SIDE, "network": "three blocks"}
        run = place.claim_run(Plan().changed(changes))
        finish(execute(place, run, lambda: False))
        scores = finish(carry_out(Score(str(place.folder), run.number, "validation")))
        rows = {row.number: row for row in place.catalogue.images()}
        order = [int(Path(rows[number].file).stem.rpartition("-")[2]) for number in scores.numbers.tolist()]
        predictor = Predictor.of(model_of(run.model))
        truth = so_it_is(predictor, [held[k] for k in order], scores.predicted.astype(np.int64))
        numbers = scores.numbers.tolist()
        request = MeasureObjects(str(place.folder), run.number, "validation")
        flags, maps = told(finish(carry_out(request)), numbers)
        both = int((flags & truth).sum())
        auc = area_under_curve(truth, maps) if 0 < truth.sum() < len(truth) else float("nan")
        print(
            f"{pair[0]:>9} on {pair[1]:<10} {part:5.0%}  {scores.accuracy:7.1%}  {int(truth.sum()):5d}"
            f"  {int(flags.sum()):5d}  {both:5d}  {both / max(1, flags.sum()):9.0%}  {both / max(1, truth.sum()):7.0%}"
            f"  {auc:9.2f}",
            flush=True,
        )


def main() -> None:
    """Every pair with grounds that tell nothing, much and nearly all."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folder", type=Path)
    parser.add_argument("--epochs", type=int, default=12)
    given = parser.parse_args()
    print("  pieces on grounds     by ground  right     so   told   both  precision   recall   maps AUC")
    for pair in PAIRS.items():
        for part in TOLD_BY_GROUND:
            judged(given.folder, pair, part, given.epochs)


if __name__ == "__main__":
    main()
