"""All explaining tasks on images of any size, grey and colour, of two and of many classes."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from attentive_lens.desk import tasks
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.training import execute
from attentive_lens.errors import LensError
from attentive_lens.explaining.causes import grouped, in_cells
from attentive_lens.explaining.saliency import METHODS
from attentive_lens.plan.layers import Answers, Convolution, Flatten, Relu
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.progress import finish

NETWORK = NetworkPlan.stack(
    [Convolution(filters=4), Relu(), Convolution(filters=4, stride=2), Relu(), Flatten(), Answers()]
)
CASES = [(8, "colour", 2), (8, "grey", 40), (15, "grey", 2), (32, "colour", 40), (64, "grey", 2), (97, "colour", 2)]


def spoken(folder: Path, classes: int, side: int) -> Path:
    """Stripes of as many directions as classes, and noise: some are mistaken."""
    random = np.random.default_rng(side)
    down, across = np.mgrid[:side, :side] / side
    for k in range(classes):
        (folder / f"direction {k}").mkdir(parents=True)
        angle = np.pi * k / classes
        for n in range(5 if classes > 2 else 12):
            wave = np.sin(9 * (down * np.cos(angle) + across * np.sin(angle)) + random.random() * 6)
            pixels = 128 + 50 * wave[:, :, None] + random.normal(0, 60, (side, side, 3))
            Image.fromarray(pixels.clip(0, 255).astype(np.uint8)).save(folder / f"direction {k}" / f"{n}.png")
    return folder


@pytest.mark.parametrize(("side", "colour", "classes"), CASES)
def test_every_explaining_task_works(side: int, colour: str, classes: int, tmp_path: Path) -> None:
    place = finish(make_workspace(tmp_path / "work", spoken(tmp_path / "images", classes, side))).workspace
    settings = {"preparation.side": side, "preparation.colour": colour, "training.epochs": 1, "recipe": "none"}
    plan = Plan(network=NETWORK).changed({**settings, "training.rate": 1e-5})
    finish(execute(place, place.claim_run(plan), lambda: False))
    folder = str(place.folder)
    channels = 1 if colour == "grey" else 3
    for method in METHODS:
        told = finish(tasks.explain(folder, 1, 1, method)).arrays
        assert told["map said"].shape == (side, side)
        assert np.isfinite(told["map said"]).all()
    measured = finish(tasks.trust(folder, 1, 2, "gradient")).values
    assert all(np.isfinite(value) for value in measured["agreement"].values())
    found = finish(tasks.causes(folder, 1, "training")).values
    assert sum(len(group["images"]) for group in found["groups"]) == found["mistakes"] > 0
    layer = finish(tasks.layer(folder, 1, "relu 1", patches=2, drawn=2))
    assert layer.arrays["patches"].shape[-1] == channels
    assert finish(tasks.channel(folder, 1, 3, "relu 2", 1)).values["adds"].keys() == {"0", "1", "2", "3"}
    assert finish(tasks.neighbours(folder, 1, 3, laid_out=True)).arrays["places"].shape[1] == 2
    if side <= 15:
        tried = finish(tasks.tried(folder, 1, 3, [{"change": "turn", "degrees": 20}])).values
        assert tried["smallest_cover"]["complete"]
    assert finish(tasks.filters(folder, 1)).arrays["filters"].shape == (4, 3, 3, 3)


def test_maps_that_round_below_zero_are_grouped_all_the_same() -> None:
    random = np.random.default_rng(0)
    for side in (8, 11, 15, 24, 32):
        maps = np.zeros((12, side, side), np.float32)
        for map_ in maps:
            map_[random.integers(side), random.integers(side)] = 1e-3 + random.random()
            map_[random.integers(side), random.integers(side)] = -1
        assert all((in_cells(map_) >= 0).all() for map_ in maps)
        groups = grouped(maps, random.normal(size=(12, 5)))
        assert sum(len(group.members) for group in groups) == 12


def test_an_image_no_run_can_be_asked_about_is_said(tmp_path: Path) -> None:
    place = finish(make_workspace(tmp_path / "work", spoken(tmp_path / "images", 2, 8))).workspace
    with pytest.raises(LensError, match="There is no run 1"):
        finish(tasks.explain(str(place.folder), 1, 1))
