"""Single images added to a workspace: copied, numbered on, split like the others, and never half."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.cli.running import command, last_object

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.images.data import gather
from attentive_lens.errors import BadFile
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace
from attentive_lens.workspace import adding as module
from attentive_lens.workspace.adding import ADDED, add_images, take_out_images


def pictures(folder: Path, count: int, seed: int = 0) -> list[Path]:
    folder.mkdir(exist_ok=True)
    random = np.random.default_rng(seed)
    files = [folder / f"{k}.png" for k in range(count)]
    for file in files:
        Image.fromarray(random.integers(0, 256, (20, 30, 3)).astype(np.uint8)).save(file)
    return files


def test_added_images_are_the_workspace_s_own(station: Workspace, tmp_path: Path) -> None:
    files = pictures(tmp_path / "new", 3)
    before = station.catalogue.images()
    numbers = add_images(station, files, "spiny")
    assert numbers == [len(before) + 1 + k for k in range(3)]
    rows = {row.number: row for row in station.catalogue.images()}
    assert [rows[row.number] for row in before] == before
    classes = station.catalogue.classes()
    for number, file in zip(numbers, files, strict=True):
        row = rows[number]
        assert (classes[row.label], row.given_set, row.width, row.height) == ("spiny", None, 30, 20)
        assert station.path_of(row).read_bytes() == file.read_bytes()
        assert row.file.startswith(f"{ADDED}/spiny/")
    shutil.rmtree(tmp_path / "new")
    data = finish(gather(station, Plan()))
    assert len(data.pixels) == len(before) + 3
    own = collection(station, Plan())
    assert {own.sets[number - 1] for number in numbers} <= {"training", "validation", "test"}
    again = add_images(station, pictures(tmp_path / "more", 1), "spiny")
    assert station.path_of(station.catalogue.images()[again[0] - 1]).name == "0~2.png", "a name that is free"


def test_a_new_class_comes_with_its_images_and_an_old_run_does_not_know_them(
    station: Workspace, tmp_path: Path
) -> None:
    result = last_object(command("add", station.folder, *pictures(tmp_path / "n", 2), "--as", "lobed", "--json"))
    assert station.catalogue.classes()[-1] == result["label"] == "lobed"
    scores = last_object(command("score", station.folder, 1, "--on", "test", "--json"))
    assert scores["images"] == 16
    assert "2 images added" in command("add", station.folder, tmp_path / "n", "--as", "lobed")
    command("rescan", station.folder, "--json")
    assert len([row for row in station.catalogue.images() if row.file.startswith(ADDED)]) == 4


def test_of_images_that_cannot_be_added_none_is(
    station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    files, before = pictures(tmp_path / "new", 2), station.catalogue.size()
    (tmp_path / "words.png").write_text("no picture", "utf-8")
    with pytest.raises(BadFile, match="not those of an image"):
        add_images(station, [*files, tmp_path / "words.png"], "spiny")
    copy, count = shutil.copyfile, 0

    def full(source: Path, target: Path) -> None:
        nonlocal count
        count += 1
        if count == 2:
            raise OSError(28, "No space left on device")
        copy(source, target)

    monkeypatch.setattr(module.shutil, "copyfile", full)
    with pytest.raises(BadFile, match="no space left"):
        add_images(station, files, "spiny")
    assert station.catalogue.size() == before
    assert [file for file in (station.folder / ADDED).rglob("*") if file.is_file()] == []


def test_an_image_taken_out_keeps_its_name_to_itself(station: Workspace, tmp_path: Path) -> None:
    (first,) = add_images(station, pictures(tmp_path / "new", 1), "spiny")
    take_out_images(station, [first])
    (second,) = add_images(station, pictures(tmp_path / "more", 1, 1), "spiny")
    take_out_images(station, [first], out=False)
    files = [station.path_of(row) for row in station.catalogue.images() if row.number in {first, second}]
    assert [file.name for file in files] == ["0.png", "0~2.png"]
    assert files[0].read_bytes() == (tmp_path / "new" / "0.png").read_bytes()
    assert files[1].read_bytes() == (tmp_path / "more" / "0.png").read_bytes()
