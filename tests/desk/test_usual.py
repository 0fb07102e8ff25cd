"""A workspace begins with a plan that fits its images: size, grey, and no flips that turn a class into another."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray
from PIL import Image, ImageDraw
from tests.cli.running import command, last_object

from attentive_lens.core.jobs import finish
from attentive_lens.core.random import random_generator
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.network.design import Design
from attentive_lens.desk.network.usual import fitted, looked_at, usual_plan
from attentive_lens.images.flips import turned_by_flip
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import ImageRow, Workspace


def hooks(count: int, side: int, seed: int) -> NDArray[np.uint8]:
    """A stem with a bulge at its right, somewhat shifted: its mirror image is a thing of its own."""
    random = random_generator(seed, "hooks")
    images = []
    for _ in range(count):
        picture = Image.new("L", (side * 4, side * 4), 230)
        draw = ImageDraw.Draw(picture)
        x, y = (int(v) for v in random.integers(-side // 8, side // 8 + 1, 2))
        draw.rectangle((side + x, side // 2 + y, side * 1.5 + x, side * 3.5 + y), fill=60)
        draw.ellipse((side * 1.2 + x, side * 2 + y, side * 2.8 + x, side * 3.5 + y), fill=60)
        images.append(np.asarray(picture.resize((side, side))) + random.integers(0, 9, (side, side)))
    return np.stack(images).clip(0, 255).astype(np.uint8)[..., None]


def rings(count: int, side: int, seed: int) -> NDArray[np.uint8]:
    random = random_generator(seed, "rings")
    rows, columns = np.mgrid[:side, :side]
    images = []
    for _ in range(count):
        y, x = random.uniform(side * 0.4, side * 0.6, 2)
        near = np.abs(np.hypot(rows - y, columns - x) - side / 4) < side / 10
        images.append(np.where(near, 60, 230) + random.integers(0, 9, (side, side)))
    return np.stack(images).clip(0, 255).astype(np.uint8)[..., None]


def test_shapes_that_are_each_other_s_mirror_images_are_told_and_others_are_not() -> None:
    left, right = hooks(30, 16, 1), hooks(30, 16, 2)[:, :, ::-1]
    labels = np.repeat([0, 1, 2], 30)
    images = np.concatenate([left, right, rings(30, 16, 3)])
    result = turned_by_flip(images, labels, ["bulge right", "bulge left", "ring"])
    assert {(each.name, each.other) for each in result} == {
        ("bulge right", "bulge left"),
        ("bulge left", "bulge right"),
    }
    assert turned_by_flip(np.concatenate([left, rings(30, 16, 4)]), np.repeat([0, 1], 30), ["a", "b"]) == ()
    shuffled = random_generator(5, "labels").permutation(labels)
    assert turned_by_flip(images, shuffled, ["a", "b", "c"]) == (), "what cannot be told apart says nothing"
    assert turned_by_flip(images[:4], labels[:4], ["a", "b", "c"]) == ()


def written(folder: Path, classes: dict[str, NDArray[np.uint8]], mode: str = "L") -> Path:
    for name, images in classes.items():
        (folder / name).mkdir(parents=True)
        for k, image in enumerate(images):
            Image.fromarray(image[:, :, 0]).convert(mode).save(folder / name / f"{k}.png")
    return folder


def test_small_grey_mirror_images_get_a_plan_of_their_own(tmp_path: Path) -> None:
    source = written(tmp_path / "p", {"right": hooks(20, 20, 1), "left": hooks(20, 20, 2)[:, :, ::-1]})
    made = finish(make_workspace(tmp_path / "work", source))
    summary = " ".join(made.findings)
    for words in ("is 20 pixels", "one channel", "does not flip", "«left» looks like «right»"):
        assert words in summary
    plan = usual_plan(made.workspace)
    assert plan.preprocessing.shape == (20, 20, 1)
    assert "flip" not in [step.kind for step in plan.augmentation]
    assert len(plan.augmentation) == len(Plan().augmentation) - 1
    assert Design(made.workspace).plan == plan
    summary = last_object(command("train", tmp_path / "work", "--set", "training.epochs=1", "--json"))
    assert summary["state"] == "done"
    assert Workspace.open(tmp_path / "work").run(1).plan().preprocessing == plan.preprocessing


def test_large_colour_pictures_begin_with_the_default_plan(station: Workspace, tmp_path: Path) -> None:
    made = finish(make_workspace(tmp_path / "work", station.folder / "images"))
    assert usual_plan(made.workspace) == Plan()
    assert not (tmp_path / "work" / "usual.toml").exists()
    assert not [words for words in made.findings if "usual plan" in words]


@pytest.mark.parametrize("side", [8, 12, 28])
def test_the_plan_trains_whatever_the_size(side: int, tmp_path: Path) -> None:
    source = written(tmp_path / "p", {"a": rings(8, side, 1), "b": hooks(8, side, 2)}, "RGB")
    workspace = finish(make_workspace(tmp_path / "work", source)).workspace
    plan = usual_plan(workspace)
    assert plan.preprocessing.shape == (side, side, 3)
    assert Design(workspace, lambda: 2).sound


def test_the_input_follows_the_longer_side_of_most_images() -> None:
    rows = [ImageRow(k, f"{k}.png", 0, None, *size, "colour", 99) for k, size in enumerate([(30, 9)] * 3 + [(9, 12)])]
    plan, (sentence,) = fitted(rows)
    assert plan.preprocessing.input_size == 30
    assert "is 30 pixels" in sentence
    assert fitted([ImageRow(1, "a.png", 0, None, 640, 480, "colour", 99)]) == (Plan(), [])
    assert fitted([]) == (Plan(), [])


@pytest.mark.parametrize(
    ("size", "wanted"),
    [
        ((20, 28), (20, 28)),
        ((96, 32), (96, 32)),
        ((32, 30), 32),
        ((640, 480), 64),
        ((300, 200), 64),
        ((1920, 1080), (48, 84)),
        ((100, 900), (192, 20)),
        ((5, 200), (200, 8)),
    ],
)
def test_images_of_one_shape_that_is_not_square_keep_it(size: tuple[int, int], wanted: int | tuple[int, int]) -> None:
    rows = [ImageRow(k, f"{k}.png", 0, None, *size, "colour", 99) for k in range(20)]
    plan, sentences = fitted(rows)
    (width, height), sides = size, plan.preprocessing.sides
    if isinstance(wanted, int):
        assert sides == (wanted, wanted)
    else:
        assert sorted(sides) == sorted(wanted)
        assert (sides[1] > sides[0]) == (width > height)
        assert "of one shape" in sentences[0]
    assert looked_at(rows).sides == (sides if isinstance(wanted, tuple) else (64, 64))
    others = [ImageRow(20, "b.png", 0, None, 64, 64, "colour", 99), ImageRow(21, "c.png", 0, None, 8, 64, "colour", 9)]
    rows, columns = fitted([*rows, *others])[0].preprocessing.sides
    assert rows == columns, "not all are of one shape"
