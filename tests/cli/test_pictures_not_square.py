"""Every question about a run and its pictures, of a run whose pictures are not square."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.cli.questions import DRAWN, QUESTIONS
from tests.cli.running import command, last_object

from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.maps import MapImages
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.explaining.channels import patch, patch_sides
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace

SIZES = {1: (20, 28), 2: (30, 18)}
MODES = {1: "stretch", 2: "letterbox"}
DRAWING = {3: "variational, two codes", 4: "generator, by class"}


@pytest.fixture(scope="module")
def oblong(station_once: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The station with runs of other input sizes in place of its own."""
    folder = Path(shutil.copytree(station_once, tmp_path_factory.mktemp("oblong") / "pollen"))
    shutil.rmtree(folder / "runs")
    place = Workspace.open(folder)
    usual = {"training.epochs": 1, "training.batch_size": 16}
    for number, size in SIZES.items():
        look = {"preprocessing.input_size": size, "preprocessing.resize_mode": MODES[number]}
        finish(
            execute(place, place.claim_run(Plan().changed({"network": "two blocks", **usual, **look})), lambda: False)
        )
    for network in DRAWING.values():
        look = {"preprocessing.input_size": (16, 24), "augmentation": "none"}
        plan = Plan().changed({"network": network, **usual, **look})
        finish(execute(place, place.claim_run(plan), lambda: False))
    return folder


@pytest.mark.parametrize("number", SIZES)
@pytest.mark.parametrize("name", QUESTIONS)
def test_every_question_is_answered(name: str, number: int, oblong: Path, tmp_path: Path) -> None:
    words = [str(word).replace("OUT", str(tmp_path / "out")) for word in QUESTIONS[name]]
    said = command(name, oblong, number, *words)
    if name == "export":
        assert "all of 6 images the class that the model gives" in said
    if name == "explain":
        rows, columns = SIZES[number]
        (file,) = (tmp_path / "out").glob("*integrated_gradients-predicted.png")
        with Image.open(file) as picture:
            assert picture.width / picture.height == 2 * columns / rows, "the image, and beside it its map"


@pytest.mark.parametrize("number", DRAWING)
@pytest.mark.parametrize("name", DRAWN)
def test_networks_that_draw_draw_them(name: str, number: int, oblong: Path, tmp_path: Path) -> None:
    command(name, oblong, number, *[str(word).replace("OUT", str(tmp_path / "out")) for word in DRAWN[name]])
    if name == "draw":
        with Image.open(tmp_path / "out.png") as picture:
            assert picture.width > 24
            assert np.asarray(picture).std() > 0


def test_drawn_again_a_picture_has_its_rows_and_columns(oblong: Path) -> None:
    again = last_object(command("reconstruct", oblong, 3, "--json"))
    assert again["in_all"] > 0
    assert "images as 2 codes each" in command("encode", oblong, 3, "--samples", 3)


def test_maps_and_patches_are_of_the_input_s_shape(oblong: Path) -> None:
    result = finish(carry_out(MapImages(str(oblong), 1, (3, 4))))
    assert result.maps.shape == (2, *SIZES[1])
    model = read_model(Workspace.open(oblong).run(2).model)
    facts = {fact.name: fact for fact in model.plan.facts(model.preprocessor.settings.shape)}
    fact, pixels = facts["convolution 2"], np.arange(30 * 18 * 3, dtype=np.uint8).reshape(30, 18, 3)
    field = fact.receptive_field
    assert field is not None
    assert patch_sides(fact, (30, 18)) == (field, field)
    assert patch_sides(fact, (30, 5)) == (field, 5), "along a side that it spans, the whole of it"
    top, left = fact.offset + 2 * fact.jump, fact.offset + 3 * fact.jump
    wanted = pixels[top : top + field, left : left + field]
    np.testing.assert_array_equal(patch(pixels, fact, 2, 3)[: wanted.shape[0], : wanted.shape[1]], wanted)
    narrow = patch(pixels[:, :5], fact, 2, 1)
    assert narrow.shape == (field, 5, 3)
    np.testing.assert_array_equal(narrow, pixels[top : top + field, :5])
    whole = facts["output"]
    np.testing.assert_array_equal(patch(pixels, whole, 0, 0), pixels)


def test_faults_and_files_are_looked_at(oblong: Path, tmp_path: Path) -> None:
    plan = tmp_path / "plan.toml"
    command("plan", "new", "--out", plan, "--set", "preprocessing.input_size=20x28")
    assert "[20, 28]" in plan.read_text()
    assert "20×28" in command("plan", "show", plan)
    model = Workspace.open(oblong).run(1).model
    pictures = oblong / "images" / "test"
    assert "images" in command("predict", model, pictures, "--out", tmp_path / "answers.csv")
    command("faults", oblong)
    command("export", oblong, 1, "--out", tmp_path / "m.onnx")
    assert "20×28 pixels" in command("import-model", tmp_path / "m.onnx", "--out", tmp_path / "m.alens")
    command("shelf-put", oblong, 1, "--name", "strip")
    assert "20×28×3" in command("shelf", oblong)
