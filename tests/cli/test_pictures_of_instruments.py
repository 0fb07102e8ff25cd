"""Every question about a run and its pictures, of pictures of more bits and other channels than an ordinary one."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from tests.cli.questions import DRAWN, QUESTIONS
from tests.cli.running import command, last_object
from tests.images.instruments import CHANNELS, KINDS, write_kind

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.data import gather, pixel_format_of
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.network.bases import base_model, with_base
from attentive_lens.desk.network.usual import usual_plan
from attentive_lens.desk.training.executing import execute
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.formats.reading import read_model
from attentive_lens.images.pixel_format import COLOURS, GREY
from attentive_lens.images.reading import Reading
from attentive_lens.plan.base import Base
from attentive_lens.serving.decoding import read_received
from attentive_lens.serving.limits import Limits
from attentive_lens.serving.receiving import Received
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.adding import add_images

DRAWING = {2: "variational, two codes", 3: "generator, by class"}
USUAL = {"training.epochs": 1, "training.batch_size": 8, "preprocessing.input_size": 24}


@pytest.fixture(scope="module", params=KINDS)
def instrument(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A workspace of one kind of pictures, with a classifier and two networks that draw."""
    folder = tmp_path_factory.mktemp("instrument")
    source = write_kind(folder / "pictures", request.param, 14)
    made = finish(make_workspace(folder / "work", source, "", KINDS[request.param].reading))
    for network in ("two blocks", *DRAWING.values()):
        look = USUAL | ({"augmentation": "none"} if network != "two blocks" else {})
        plan = usual_plan(made.workspace).changed({"network": network, **look})
        finish(execute(made.workspace, made.workspace.claim_run(plan), lambda: False))
    return folder / "work"


@pytest.mark.parametrize("name", QUESTIONS)
def test_every_question_is_answered(name: str, instrument: Path, tmp_path: Path) -> None:
    said = command(name, instrument, 1, *[str(word).replace("OUT", str(tmp_path / "out")) for word in QUESTIONS[name]])
    if name == "export":
        assert "all of 6 images the class that the model gives" in said


@pytest.mark.parametrize("number", DRAWING)
@pytest.mark.parametrize("name", DRAWN)
def test_networks_that_draw_draw_them(name: str, number: int, instrument: Path, tmp_path: Path) -> None:
    command(name, instrument, number, *[str(word).replace("OUT", str(tmp_path / "out")) for word in DRAWN[name]])
    if name == "fidelity":
        said = command("fidelity", instrument, number, "--features", "shelf:motifs")
        assert "Fréchet distance" in said, "a model of ordinary pictures sees the channels that are shown"
    if number == 2 and name == "draw":
        assert last_object(command("reconstruct", instrument, 2, "--json"))["in_all"] > 0


def test_faults_files_and_models_are_looked_at(instrument: Path, tmp_path: Path) -> None:
    place = Workspace.open(instrument)
    command("faults", instrument)
    model = place.run(1).model
    assert "images" in command("predict", model, place.folder.parent / "pictures", "--out", tmp_path / "answers.csv")
    rows = place.catalogue.images()
    if not any(row.part for row in rows):
        answer = last_object(command("predict", model, place.path_of(rows[0]), "--json"))["probabilities"]
        scored = last_object(command("explain", instrument, 1, 1, "--out", tmp_path / "maps", "--json"))
        assert answer == pytest.approx(scored["probabilities"], abs=1e-6)
        (added,) = add_images(place, [place.path_of(rows[0])], "solid")
        pixels = finish(gather(place, place.run(1).plan())).pixels
        assert np.array_equal(pixels[added - 1], pixels[0]), "what is added is read as the others are"
    command("export", instrument, 1, "--out", tmp_path / "m.onnx")
    command("import-model", tmp_path / "m.onnx", "--out", tmp_path / "m.alens")
    again, own = (read_model(file).preprocessor for file in (tmp_path / "m.alens", model))
    assert (again.pixel_format, again.settings) == (own.pixel_format, own.settings)
    command("shelf-put", instrument, 1, "--name", "instrument")
    command("rescan", instrument, "--contents")
    command("manifest", instrument, 1, "--out", tmp_path / "manifest.csv")


def test_a_server_sees_what_the_command_sees(instrument: Path) -> None:
    place = Workspace.open(instrument)
    preprocessor = read_model(place.run(1).model).preprocessor
    files = [place.path_of(row) for row in place.catalogue.images()[:3]]
    read = read_received(preprocessor, Limits(), [Received(file.name, file.read_bytes()) for file in files])
    for file, (image,) in zip(files, read, strict=True):
        assert image.name == file.name
        assert not isinstance(image.pixels, str), image.pixels
        assert np.array_equal(image.pixels, preprocessor.opened(file))


def test_a_file_of_other_channels_is_refused_by_a_model_in_a_sentence(instrument: Path, tmp_path: Path) -> None:
    file = tmp_path / "seven.npy"
    np.save(file, np.zeros((24, 24, 7), np.uint16))
    model = Workspace.open(instrument).run(1).model
    with pytest.raises(BadFile, match=r"7 channels|values are 16 bit"):
        read_model(model).preprocessor.opened(file)
    assert "none of the files could be read" in command("predict", model, file, "--json", code=1)


def test_a_base_for_other_channels_is_refused_in_a_sentence(instrument: Path) -> None:
    place = Workspace.open(instrument)
    base = Base(model="shelf:motifs", take_preprocessing=True)
    if pixel_format_of(place).channels in (GREY, COLOURS):
        assert base_model(place, with_base(place, usual_plan(place), base)) is not None
        return
    with pytest.raises(BadValue, match="does not fit these images: it looks at red, green and blue"):
        base_model(place, with_base(place, usual_plan(place), base))


def test_a_model_of_five_channels_says_which_of_them_decide(tmp_path: Path) -> None:
    """The class stands in the last channel alone: with it the network learns, without it it cannot."""
    source = write_kind(tmp_path / "pictures", "five channels", 40)
    made = finish(make_workspace(tmp_path / "work", source, "", Reading(channels=", ".join(CHANNELS))))
    right = []
    for names in (CHANNELS, CHANNELS[:-1]):
        look = {"network": "two blocks", "training.epochs": 14, "training.batch_size": 8, "augmentation": "none"}
        plan = usual_plan(made.workspace).changed({**look, "preprocessing.channel_names": list(names)})
        run = made.workspace.claim_run(plan)
        finish(execute(made.workspace, run, lambda: False))
        right.append(last_object(command("score", tmp_path / "work", run.number, "--json"))["accuracy"])
    assert right[0] >= 0.9
    assert right[1] <= 0.75
    decided = 0
    for image in range(41, 51):  # full discs: a ring is what has nothing in its middle, and that is seen without too
        seen = last_object(command("channel", tmp_path / "work", 1, image, "image", "--json"))
        decided += seen["names"][seen["channels"][0]["channel"]] == "infrared"
    assert decided >= 7
    maps = {}
    for channel in ("blue", "infrared"):
        how = ("--method", f"gradient_times_input channel='{channel}'", "--out", tmp_path / "maps")
        assert f"of channel {channel}" in command("explain", tmp_path / "work", 1, 41, *how)
        (file,) = (tmp_path / "maps").glob(f"*-gradient_times_input-{channel}-predicted.npy")
        maps[channel] = float(np.abs(np.load(file)).sum())
    assert maps["infrared"] > maps["blue"]
    strange = ("--method", "gradient channel=violet", "--out", tmp_path / "none", "--json")
    refused = last_object(command("explain", tmp_path / "work", 1, 41, *strange, code=2))["error"]["why"]
    assert "sees no channel «violet»; it sees blue, green" in refused
    said = command("try", tmp_path / "work", 1, 1, "--change", "flatten channel=5")
    assert "flatten channel=5" in said
