"""`map`: places of all images as a table and as a picture."""

from __future__ import annotations

import csv
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.cli.running import command, last_object

from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.drawing import EncodeImages
from attentive_lens.desk.requests.mapping import MapData
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace


def test_every_image_of_the_sets_has_a_place(station: Workspace, tmp_path: Path) -> None:
    folder = station.folder
    summary = last_object(command("map", folder, 1, "--json", "--out", tmp_path / "map.csv"))
    assert (summary["method"], summary["in_all"], summary["explained"]) == ("t-SNE", len(summary["images"]), [])
    for on in ("training", "validation", "test"):
        scores = finish(carry_out(Score(str(folder), 1, on)))
        own = {each["image"]: each for each in summary["images"] if each["set"] == on}
        assert own.keys() == {answer.image for answer in scores.answers}
        for answer in scores.answers:
            names = scores.classes[answer.predicted], scores.classes[answer.true]
            assert (own[answer.image]["predicted"], own[answer.image]["true"]) == names
    with (tmp_path / "map.csv").open(newline="") as stream:
        rows = list(csv.DictReader(stream))
    assert [int(row["image"]) for row in rows] == [each["image"] for each in summary["images"]]
    assert [float(row["across"]) for row in rows] == pytest.approx(
        [each["across"] for each in summary["images"]], rel=1e-4
    )


def test_a_layer_is_laid_out_by_principal_components_as_a_picture(station: Workspace, tmp_path: Path) -> None:
    words = command("map", station.folder, 1, "--layer", "relu 1", "--method", "pca", "--out", tmp_path / "map.png")
    assert "of the variance" in words
    assert "test: " in words
    with Image.open(tmp_path / "map.png") as picture:
        assert np.asarray(picture).std() > 1
    result = finish(carry_out(MapData(str(station.folder), 1, "relu 1", "PCA")))
    assert np.var(result.places, axis=0)[0] >= np.var(result.places, axis=0)[1]
    assert 0 < sum(result.explained) <= 1


def test_of_many_images_a_part_of_every_class_is_drawn(station: Workspace) -> None:
    result = finish(carry_out(MapData(str(station.folder), 1, method="PCA", most=20)))
    every = finish(carry_out(MapData(str(station.folder), 1, method="PCA")))
    assert result.in_all == every.in_all == len(every.images) > 20
    assert set(result.images.tolist()) < set(every.images.tolist())
    assert set(result.true.tolist()) == set(every.true.tolist())
    assert abs(len(result.images) - 20) <= len(result.classes)


def test_images_are_laid_out_by_their_codes(station: Workspace, tmp_path: Path) -> None:
    settings = {"network": "variational, two codes", "preprocessing.input_size": 16, "training.epochs": 1}
    finish(execute(station, station.claim_run(Plan().changed({**settings, "augmentation": "none"})), lambda: False))
    codes = finish(carry_out(EncodeImages(str(station.folder), 2, "test")))
    result = finish(carry_out(MapData(str(station.folder), 2, method="PCA")))
    assert result.layer == read_model(station.run(2).model).plan.code.name
    assert not result.answered
    assert not result.wrong.any()
    assert np.isnan(result.probability).all()
    own = np.isin(result.images, codes.numbers)
    places, means = result.places[own], codes.codes[np.argsort(codes.numbers)]
    places = places[np.argsort(result.images[own])]
    gap = np.linalg.norm(means[0] - means[1])  # of two codes both components are there
    assert np.linalg.norm(places[0] - places[1]) == pytest.approx(gap, rel=1e-3)
    words = command("map", station.folder, 2, "--method", "pca", "--out", tmp_path / "map.csv")
    assert "wrongly" not in words
    assert last_object(command("map", station.folder, 2, "--json"))["images"][0]["predicted"] == ""
    assert finish(carry_out(MapData(str(station.folder), 2, "flatten 1", "PCA"))).layer == "flatten 1"


@pytest.mark.parametrize(
    ("words", "part"),
    [
        (["--layer", "relu 99"], "relu"),
        (["--method", "circle"], "method"),
        (["--out", "map.pdf"], "ending"),
        (["--perplexity", "1"], "perplexity"),
    ],
)
def test_what_cannot_be_laid_out_is_a_sentence(station: Workspace, words: list[str], part: str) -> None:
    summary = last_object(command("map", station.folder, 1, *words, "--json", code=2))
    assert part in " ".join(summary["error"].values()).lower()
