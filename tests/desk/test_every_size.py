"""All explaining tasks on images of any size, grey and colour, of two and of many classes."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.answering import answer, by, change

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.requests.causes import Causes
from attentive_lens.desk.requests.explaining import Explain, FirstFilters, Trust
from attentive_lens.desk.requests.inspecting import Channels, Layer, TryChanges
from attentive_lens.desk.requests.mapping import MapData
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.training.executing import execute
from attentive_lens.errors import LensError
from attentive_lens.explaining.causes.grouping import grouped, in_cells
from attentive_lens.explaining.saliency import METHODS
from attentive_lens.plan.layers import Convolution, Flatten, Output, Relu
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.plan import Plan

NETWORK = NetworkPlan.stack(
    [Convolution(filters=4), Relu(), Convolution(filters=4, stride=2), Relu(), Flatten(), Output()]
)
CASES = [(8, "RGB", 2), (8, "grey", 40), (15, "grey", 2), (32, "RGB", 40), (64, "grey", 2), (97, "RGB", 2)]


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
    settings = {
        "preprocessing.input_size": side,
        "preprocessing.colour_space": colour,
        "training.epochs": 1,
        "augmentation": "none",
    }
    plan = Plan(network=NETWORK).changed({**settings, "optimiser.learning_rate": 1e-5})
    finish(execute(place, place.claim_run(plan), lambda: False))
    folder = str(place.folder)
    channels = 1 if colour == "grey" else 3
    for method in METHODS:
        summary = answer(Explain(RunImage(folder, 1, 1), by(method)))
        assert summary.maps[0].values.shape == (side, side)
        assert np.isfinite(summary.maps[0].values).all()
    measured = answer(Trust(RunImage(folder, 1, 2), by("gradient")))
    assert all(np.isfinite(value) for value in measured.agreement.values())
    result = answer(Causes(folder, 1, "training"))
    assert sum(len(group.images) for group in result.groups) == result.mistakes > 0
    layer = answer(Layer(folder, 1, "relu 1", patches=2, drawn=2))
    assert layer.patches.shape[-1] == channels
    assert {own.channel for own in answer(Channels(RunImage(folder, 1, 3), "relu 2", 1)).channels} == {
        0,
        1,
        2,
        3,
    }
    assert np.isfinite(answer(MapData(folder, 1, "relu 1")).places).all()
    if side <= 15:
        tried = answer(TryChanges(RunImage(folder, 1, 3), (change("rotate", degrees=20),)))
        assert tried.smallest_cover is not None
        assert tried.smallest_cover.complete
    pictures = answer(FirstFilters(RunImage(folder, 1, 1))).pictures
    assert pictures is not None
    assert pictures.shape == (4, 3, 3, 3)


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
        answer(Explain(RunImage(str(place.folder), 1, 1)))
