"""The station's second collection: views of a slide with several grains, and a table of the types in each.

``fields/*.png``, and in the same folder ``types.csv``: file, types (several, parted by semicolons, or none) and set.
One type mostly comes with another, and another one was mostly taken beside the edge of the cover glass: what a network
may go by in place of the grains. ``answer-key/fields.csv`` says in which views that is.
"""

from __future__ import annotations

import csv
import io
import shutil
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from scipy.ndimage import gaussian_filter

from attentive_lens.core.files import write_text
from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.random import random_generator
from attentive_lens.demo.grains import TYPES, Pose
from attentive_lens.demo.slide import GRAIN, add_debris, add_grain, camera_noise, lamp, stain_of
from attentive_lens.errors import BadFile, BadValue

FEWEST = 60
TEST_PART = 0.25
MOST_GRAINS = 4
OFTEN, RARELY = 0.34, 0.10
"""Part of the views that each type is in, and of the rare one."""
RARE_TYPE = "triangular"
LEADER, FOLLOWER, FOLLOWS = "winged", "furrowed", 0.75
"""A type, the one that mostly comes with it, and how often."""
EDGE_TYPE, EDGE_TRAINING, EDGE_TEST = "netted", 0.9, 0.25
"""The type whose training views show the edge of the cover glass, how often, and views of the test set of any types."""
WRONG = 0.02
"""Part of the training views of which the table leaves out a type."""


def make_fields(folder: Path, images: int = 1200, seed: int = 0, side: int = 96) -> Job[Path]:
    """Write the collection; the same for the same arguments.

    Parameters
    ----------
    folder : Path
        Made if missing; must not hold a folder ``fields``.
    images : int
        At least 60; a quarter is for testing.
    seed : int
        Decides everything.
    side : int
        Pixels of the square views.

    Returns
    -------
    Path
        The folder of the views, with their table.

    Raises
    ------
    BadFile, BadValue
        If the folder cannot be written, or there are too few.
    """
    if images < FEWEST:
        raise BadValue("The views were not made", f"{images} images are too few", f"Ask for at least {FEWEST}")
    if (folder / "fields").exists():
        raise BadFile(f"{folder / 'fields'} exists already", "a collection stands there", "Name another folder")
    making = folder / ".making-fields"
    rows, key = [], []
    try:
        shutil.rmtree(making, ignore_errors=True)
        making.mkdir(parents=True)
        for number in range(images):
            if number % 32 == 0:
                yield Progress(number, images, "photographing slides")
            random = random_generator(seed, "field", number)
            set_name = "test" if number < images * TEST_PART else "training"
            kinds = _kinds(random)
            chance = EDGE_TEST if set_name == "test" else EDGE_TRAINING * (EDGE_TYPE in kinds)
            has_edge = bool(random.random() < chance)
            name = f"field-{number:05d}.png"
            view = _view(kinds, has_edge, random, side)
            Image.fromarray(view).save(making / name, compress_level=1, compress_type=2)
            named = kinds
            if set_name == "training" and len(kinds) > 1 and random.random() < WRONG:
                named = [kind for kind in kinds if kind != str(random.choice(kinds))]
            rows.append((name, "; ".join(named), set_name))
            key.append(
                (name, set_name, "; ".join(kinds), "edge" if has_edge else "", "" if named == kinds else "left out")
            )
        write_text(making / "types.csv", _table(("file", "types", "set"), rows))
        (folder / "answer-key").mkdir(exist_ok=True)
        write_text(folder / "answer-key" / "fields.csv", _table(("file", "set", "types", "edge", "label"), key))
        making.replace(folder / "fields")
    except OSError as error:
        raise BadFile(f"{folder} could not be written", str(error.strerror).lower(), "Name another folder") from None
    finally:
        shutil.rmtree(making, ignore_errors=True)
    return folder / "fields"


def _kinds(random: np.random.Generator) -> list[str]:
    """Types in a view, in the order of the alphabet; none now and then."""
    chosen = [kind for kind in sorted(TYPES) if random.random() < (RARELY if kind == RARE_TYPE else OFTEN)]
    if LEADER in chosen and FOLLOWER not in chosen and random.random() < FOLLOWS:
        chosen.append(FOLLOWER)
    return sorted(str(kind) for kind in random.permutation(chosen)[:MOST_GRAINS])


def _view(kinds: list[str], has_edge: bool, random: np.random.Generator, side: int) -> NDArray[np.uint8]:
    """Grains of some types, one or two of each, that hardly touch; side×side×3."""
    light, mask = lamp(side, random), np.zeros((side, side), np.uint8)
    if has_edge:
        _add_edge(light, random)
    add_debris(light, random)
    places: list[tuple[float, float, float]] = []
    for kind in kinds:
        for _ in range(1 + int(random.random() < 0.2)):
            radius = side * random.uniform(0.11, 0.15)
            for _attempt in range(40):
                x, y = random.uniform(0.14 * side, 0.86 * side, 2)
                if all(np.hypot(x - a, y - b) > 0.95 * (radius + r) for a, b, r in places):
                    break
            places.append((x, y, radius))
            turn, spin = random.uniform(0, 2 * np.pi, 2)
            pose = Pose(x, y, radius, turn, random.uniform(-0.75, 0.75), spin)
            add_grain(light, mask, kind, pose, random, stain_of(random), GRAIN)
    blur = float(np.clip(random.gamma(2.2, 0.15), 0.1, 0.9)) * side / 96
    picture = gaussian_filter(light, (0, blur, blur), truncate=3) * 255
    picture += camera_noise(picture.shape, random) * np.float32(255 * random.uniform(0.006, 0.014))
    pixels = np.clip(picture + np.float32(0.5), 0, 255).astype(np.uint8)
    return np.ascontiguousarray(pixels.transpose(1, 2, 0))


def _add_edge(light: NDArray[np.float32], random: np.random.Generator) -> None:
    """The edge of the cover glass: a thin dark line with a bright one beside it, across a corner."""
    side = light.shape[1]
    down, across = np.mgrid[:side, :side].astype(np.float32)
    corner = random.integers(4)
    across = side - across if corner & 1 else across
    down = side - down if corner & 2 else down
    far = across * np.float32(random.uniform(0.8, 1.25)) + down - np.float32(side * random.uniform(0.22, 0.34))
    light *= 1 - 0.45 * np.exp(-((far / 1.3) ** 2)) + 0.14 * np.exp(-(((far - 3.2) / 1.6) ** 2))


def _table(heads: tuple[str, ...], rows: Sequence[tuple[str, ...]]) -> str:
    lines = io.StringIO()
    table = csv.writer(lines, lineterminator="\n")
    table.writerow(heads)
    table.writerows(rows)
    return lines.getvalue()
