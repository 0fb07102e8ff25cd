"""Causes are looked for in a workspace, in words of its own files."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PIL import Image
from tests.answering import answer

from attentive_lens.desk.images.collection import Library
from attentive_lens.desk.requests.causes import Causes
from attentive_lens.desk.tasks.causes import origin_in_words
from attentive_lens.images.decoding import camera
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import ImageRow, Workspace


def photograph(file: Path, maker: str = "", model: str = "") -> Path:
    exif = Image.Exif()
    for tag, word in ((0x010F, maker), (0x0110, model)):
        if word:
            exif[tag] = word
    file.parent.mkdir(parents=True, exist_ok=True)
    Image.fromarray(np.zeros((8, 8, 3), np.uint8)).save(file, exif=exif)
    return file


def row(file: str, index: int = -1, part: str = "") -> ImageRow:
    return ImageRow(1, file, 0, None, 640, 480, "colour", 100, part, index)


def test_a_camera_is_what_the_file_names(tmp_path: Path) -> None:
    assert camera(photograph(tmp_path / "a.jpg", "Bench", "Bench 2")) == "Bench Bench 2"
    assert camera(photograph(tmp_path / "b.jpg", "Bench", "Bench")) == "Bench"
    assert camera(photograph(tmp_path / "c.jpg")) == ""
    (tmp_path / "d.jpg").write_bytes(b"no picture")
    assert camera(tmp_path / "d.jpg") == camera(tmp_path / "gone.jpg") == camera(tmp_path / "e.png") == ""


def test_origins_leave_out_the_class_and_the_set(tmp_path: Path) -> None:
    photograph(tmp_path / "images/train/spiny/left bench/slide04_tile12.jpg", "Bench", "Two\x1b[31m")
    words = origin_in_words(row("images/train/spiny/left bench/slide04_tile12.jpg"), "spiny", tmp_path)
    assert words == (
        "source 1",
        "files of 640×480 pixels",
        "colour files",
        "the folder images",
        "the folder left bench",
        "the camera Bench Two\\x1b[31m",
        "JPG files",
        "names that begin with «slide»",
        "names that end with «12»",
        "names that begin with «slide04»",
    )
    assert origin_in_words(row("arrays.npz", 7, "x_train"), "spiny", tmp_path)[-1] == "arrays.npz, x_train"


def test_what_the_split_keeps_together_has_one_number(tmp_path: Path) -> None:
    names = ["a_t1.png", "a_t2.png", "b_t1.png", "other.png"]
    rows = [ImageRow(k, name, 0, None, 8, 8, "colour", 9) for k, name in enumerate(names, 1)]
    library = Library(["a"], rows, [], {1: 5, 4: 5}, {}, Workspace(tmp_path, "w", False))
    library.__dict__["columns"] = {"day": {2: "Mon", 4: "Mon"}}
    units = library.units(Plan().changed({"split.group_pattern": "^(.+)_t"}))
    assert units[0] == units[1] != units[2]
    assert len(set(units.tolist())) == 3
    by_day = library.units(Plan().changed({"split.group_column": "day"}))
    assert by_day[1] == by_day[3]
    assert len(set(by_day.tolist())) == 3
    assert len(set(library.units(Plan()).tolist())) == 4, "copies count each"


def test_every_mistake_of_a_run_stands_in_one_cause(station: Workspace) -> None:
    result = answer(Causes(str(station.folder), 1, "training"))
    images = [image for cause in result.groups for image in cause.images]
    assert len(images) == len(set(images)) == result.mistakes > 0
    for cause in result.groups:
        assert sum(cause.predicted.values()) == len(cause.images)
        assert cause.why.startswith(f"{len(cause.images)} mistake")
        assert cause.short
        assert (cause.place is not None) == (cause.kind in ("place", "other"))
    assert answer(Causes(str(station.folder), 1, "training")).groups[0].why == result.groups[0].why
