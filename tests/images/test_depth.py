"""Images of more than 8 bits have one scale for a whole set, which is told, can be chosen, and stays with the model."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.data import gather, pixel_format_of
from attentive_lens.desk.making import make_workspace
from attentive_lens.errors import BadFile
from attentive_lens.formats.reading import read_model
from attentive_lens.images.decoding import decode
from attentive_lens.images.layouts import Scale
from attentive_lens.images.pixel_format import WHITES, PixelFormat, white_of
from attentive_lens.images.reading import Reading
from attentive_lens.images.sources import Found, open_source
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.adding import add_images
from tests.cli.running import TINY, command, last_object

EIGHT_BITS = Reading(depth="8 bit")
"""Made ordinary pictures, whatever they are."""


def deep(file: Path, values: NDArray[np.integer]) -> Path:
    file.parent.mkdir(parents=True, exist_ok=True)
    Image.fromarray(values.astype(np.uint16)).save(file)
    return file


def ramp(top: int, shift: int = 0) -> NDArray[np.int64]:
    return (np.arange(32 * 32).reshape(32, 32) * top // 1023 + shift).clip(0, top)


def of_twelve_bits(root: Path) -> Path:
    """Two classes of 12-bit files, one image of each dark throughout."""
    for name, shift in (("smooth", 0), ("spiny", 300)):
        for k in range(8):
            deep(root / name / f"{k}.png", ramp(4095, shift + k))
        deep(root / name / "dark.png", ramp(200))
    return root


@given(st.integers(0, 65_535))
def test_white_is_the_least_that_is_enough(highest: int) -> None:
    white = white_of(highest)
    assert white in WHITES
    assert white >= highest
    assert all(other < highest for other in WHITES if other < white)
    assert white_of(65_536) == 0


def test_a_set_of_twelve_bits_keeps_its_levels_and_its_dark_images_dark(tmp_path: Path) -> None:
    source = open_source(of_twelve_bits(tmp_path / "pictures"), EIGHT_BITS)
    assert source.reading.white == 4095
    pictures = {item.file.name: source.picture(item.file, "", -1) for item in source.find() if isinstance(item, Found)}
    bright = source.picture(tmp_path / "pictures" / "smooth" / "0.png", "", -1).pixels[:, :, 0]
    dark = pictures["dark.png"].pixels[:, :, 0]
    assert len(np.unique(bright)) == 256
    assert (bright.max(), dark.max()) == (255, round(200 * 255 / 4095))
    assert np.array_equal(bright, (ramp(4095) * 255 / 4095 + 0.5).astype(np.uint8))
    assert pictures["0.png"].mode == "grey, 16 bit"
    assert pictures["0.png"].note == "white is 4095"


@pytest.mark.parametrize("depth", ["8 bit", "16 bit"])
def test_the_scale_is_told_kept_in_the_model_and_used_for_what_is_new(depth: str, tmp_path: Path) -> None:
    source, work = of_twelve_bits(tmp_path / "pictures"), tmp_path / "work"
    command("new", work, source, "--read", f"depth={depth}")
    workspace = Workspace.open(work)
    assert pixel_format_of(workspace).white == 4095
    assert {row.mode for row in workspace.catalogue.images()} == {"grey, 16 bit; white is 4095"}
    command("train", work, *TINY)
    model = workspace.run(1).model
    assert read_model(model).preprocessor.pixel_format == pixel_format_of(workspace)
    data = finish(gather(workspace, workspace.run(1).plan()))
    row = workspace.catalogue.images()[0]
    assert np.array_equal(read_model(model).preprocessor.opened(workspace.path_of(row)), data.pixels[0])
    new = deep(tmp_path / "new.png", ramp(4095, 77))
    (number,) = add_images(workspace, [new], "smooth")
    again = finish(gather(workspace, workspace.run(1).plan()))
    assert np.array_equal(again.pixels[number - 1], read_model(model).preprocessor.opened(new))
    scores = last_object(command("explain", work, 1, 1, "--out", tmp_path / "maps", "--json"))["probabilities"]
    request = last_object(command("predict", model, workspace.path_of(row), "--json"))["probabilities"]
    assert request == pytest.approx(scores, abs=1e-6)


def test_somebody_can_say_what_white_is(tmp_path: Path) -> None:
    made = finish(
        make_workspace(tmp_path / "work", of_twelve_bits(tmp_path / "p"), "", Reading(depth="8 bit", white=65_535))
    )
    pixels = finish(gather(made.workspace, Plan().changed({"preprocessing.input_size": 32}))).pixels
    assert int(pixels[:].max()) == 16
    command("new", tmp_path / "other", tmp_path / "p", "--read", "white=1023")
    assert pixel_format_of(Workspace.open(tmp_path / "other")).white == 1023


def test_files_of_eight_bits_have_no_scale(tmp_path: Path) -> None:
    for name in ("a", "b"):
        for k in range(2):
            (tmp_path / "p" / name).mkdir(parents=True, exist_ok=True)
            Image.new("L", (4, 4), 3 * k).save(tmp_path / "p" / name / f"{k}.png")
    assert not open_source(tmp_path / "p").reading.has_scale
    assert open_source(tmp_path / "p").reading.pixel_format.is_plain


def test_a_file_alone_is_never_stretched_by_what_it_happens_to_hold(tmp_path: Path) -> None:
    file = deep(tmp_path / "dark.png", ramp(200))
    assert decode(file).pixels.max() == 1, "200 of 65 535"
    assert decode(file, PixelFormat(white=255)).pixels.max() == 200
    assert decode(file, PixelFormat(white=100)).pixels.max() == 255, "what is brighter than white is white"


def test_floating_point_files_share_a_scale_too(tmp_path: Path) -> None:
    for name, top in (("a", 0.5), ("b", 900.0)):
        for k in range(2):
            (tmp_path / name).mkdir(exist_ok=True)
            Image.fromarray(np.full((4, 4), top - k / 4, np.float32)).save(tmp_path / name / f"{k}.tiff")
    source = open_source(tmp_path, EIGHT_BITS)
    assert source.reading.white == 1023
    assert source.picture(tmp_path / "a" / "0.tiff", "", -1).pixels.max() == 0
    assert decode(deep(tmp_path / "whole.png", ramp(4095)), PixelFormat(white=1)).pixels.max() == 16, (
        "fractions say nothing of 16 bits"
    )


def test_all_arrays_of_a_source_share_a_scale(tmp_path: Path) -> None:
    bright, dark = np.stack([ramp(4000)] * 4), np.stack([ramp(200)] * 4)
    labels = np.array([0, 1, 0, 1])
    parts = {"x_train": bright.astype(np.uint16), "x_test": dark.astype(np.uint16)}
    np.savez(tmp_path / "d.npz", **parts, y_train=labels, y_test=labels)
    source = open_source(tmp_path / "d.npz", EIGHT_BITS)
    assert source.reading.white == 4095
    assert source.picture(tmp_path / "d.npz", "x_test", 0).pixels.max() == round(200 * 255 / 4095)
    assert Scale.of(bright.astype(np.uint16)).top == 4095
    assert Scale.of((bright / 4000).astype(np.float32)).top == 1


def test_a_model_file_with_a_strange_white_is_refused(station: Workspace, tmp_path: Path) -> None:
    for white in (-1, 70_000, True, "255", 1.5):
        file = tmp_path / "strange.alens"
        with zipfile.ZipFile(station.run(1).model) as old, zipfile.ZipFile(file, "w") as new:
            for name in old.namelist():
                data = old.read(name)
                if name == "preprocessing.json":
                    data = json.dumps({**json.loads(data), "white": white}).encode()
                new.writestr(name, data)
        with pytest.raises(BadFile, match="white is no whole number"):
            read_model(file)


def test_white_is_noted_of_deep_files_only_and_leaves_others_as_they_are(tmp_path: Path) -> None:
    values = ramp(255)
    Image.fromarray(values.astype(np.uint8)).save(tmp_path / "plain.png")
    plain, with_white = (decode(tmp_path / "plain.png", PixelFormat(white=white)) for white in (0, 4095))
    assert "white" not in with_white.note
    assert (plain.pixels == with_white.pixels).all()
    assert "white is 4095" in decode(deep(tmp_path / "deep.png", ramp(4095)), PixelFormat(white=4095)).note
