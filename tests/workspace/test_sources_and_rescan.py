from __future__ import annotations

import os
import sqlite3
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.images.drawn import kinds, leaves
from tests.images.test_array_sources import WRITERS

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.images.curating import Curating, flagged
from attentive_lens.desk.images.data import gather
from attentive_lens.desk.making import look_again, make_workspace
from attentive_lens.errors import BadFile
from attentive_lens.images.decoding import Picture
from attentive_lens.images.reading import Reading
from attentive_lens.images.sources import SOURCES
from attentive_lens.images.sources.base import Source
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace, importing
from attentive_lens.workspace.importing import Rescanned


def pictures(root: Path, **classes: int) -> Path:
    for name, count in classes.items():
        (root / name).mkdir(parents=True, exist_ok=True)
        for k in range(count):
            Image.new("RGB", (12, 9), (k * 9, 90, 160)).save(root / name / f"{k}.png")
    return root


@pytest.mark.parametrize("name", WRITERS)
def test_every_source_becomes_a_workspace_and_gives_its_pixels_again(name: str, tmp_path: Path) -> None:
    images = leaves(9, 16, 16)
    place = WRITERS[name][1](tmp_path, images, kinds(9))
    reading = Reading(order="HWC") if name == "table" else None
    made = finish(make_workspace(tmp_path / "work", place, "", reading))
    assert sorted(made.collection.totals) == [4, 5]
    again = Workspace.open(tmp_path / "work")
    data = finish(gather(again, Plan().changed({"preprocessing.input_size": 16})))
    assert np.array_equal(data.pixels, images)
    assert made.collection.rows[3].name.startswith(place.name)


def test_a_second_look_adds_marks_what_is_gone_and_takes_it_back(tmp_path: Path) -> None:
    source = pictures(tmp_path / "pictures", red=4, blue=4)
    workspace = finish(make_workspace(tmp_path / "work", source)).workspace
    Curating(workspace).change("flag", [1, 6], flagged(True))
    before = collection(workspace, Plan())
    assert finish(look_again(workspace)) == Rescanned((), (), (), ())
    Image.new("RGB", (40, 30), (1, 2, 3)).save(source / "blue" / "0.png")
    (source / "blue" / "1.png").rename(tmp_path / "kept.png")
    pictures(source, green=3)
    (source / "red" / "bad.png").write_bytes(b"nothing")
    result = finish(look_again(workspace))
    assert (result.added, result.changed, result.gone, result.back) == ((9, 10, 11), (1,), (2,), ())
    after = collection(workspace, Plan())
    assert after.classes == [*before.classes, "green"]
    assert after.sets[1] == "gone"
    assert (after.rows[0].width, after.rows[0].flagged, after.rows[5].flagged) == (40, True, True)
    assert [Path(file).name for file, _ in after.skipped] == ["bad.png"]
    assert finish(gather(workspace, Plan())).pixels[1].max() == 0
    (tmp_path / "kept.png").rename(source / "blue" / "1.png")
    assert finish(look_again(workspace)).back == (2,)
    assert collection(workspace, Plan()).sets[1] != "gone"


def test_a_source_that_went_away_is_told(tmp_path: Path) -> None:
    source = pictures(tmp_path / "pictures", red=3, blue=3)
    workspace = finish(make_workspace(tmp_path / "work", source)).workspace
    source.rename(tmp_path / "elsewhere")
    with pytest.raises(BadFile, match="is gone"):
        finish(look_again(workspace))


def test_a_cancelled_import_leaves_no_workspace(tmp_path: Path) -> None:
    source = pictures(tmp_path / "pictures", red=3, blue=3)
    job = make_workspace(tmp_path / "work", source)
    next(job)
    job.close()
    assert not (tmp_path / "work").exists()


def test_files_that_vanish_during_import_and_odd_ones_are_reported(tmp_path: Path) -> None:
    source = pictures(tmp_path / "pictures", red=300, blue=3)
    os.mkfifo(source / "red" / "pipe.png")
    (source / "red" / "loop").symlink_to(source / "red", target_is_directory=True)
    (source / "red" / "dangling.png").symlink_to(tmp_path / "nowhere.png")
    (source / "blue" / "line\nbreak.png").write_bytes((source / "blue" / "0.png").read_bytes())
    (source / "blue" / ("long" * 60 + ".png")).write_bytes((source / "blue" / "0.png").read_bytes())
    Image.new("RGB", (1, 1)).save(source / "blue" / "tiny.png")
    Image.new("L", (20000, 10)).save(source / "blue" / "wide.png")
    job = make_workspace(tmp_path / "work", source)
    next(job)
    (source / "red" / "99.png").unlink()
    result = finish(job).collection
    reasons = {Path(file).name: why for file, why in result.skipped}
    assert reasons == {
        "pipe.png": "it is not a regular file",
        "dangling.png": "no such file or directory",
        "99.png": "no such file or directory",
    }
    assert result.totals == [3 + 4, 299]
    data = finish(gather(Workspace.open(tmp_path / "work"), Plan()))
    assert data.pixels.shape[0] == 306


def test_turned_and_animated_images_say_so(tmp_path: Path) -> None:
    source = pictures(tmp_path / "pictures", red=2, blue=2)
    turned = Image.new("RGB", (30, 10), (200, 0, 0))
    exif = turned.getexif()
    exif[0x0112] = 6
    turned.save(source / "red" / "turned.jpg", exif=exif)
    frames = [Image.new("RGB", (8, 8), (k * 80, 0, 0)) for k in range(3)]
    frames[0].save(source / "red" / "moving.gif", save_all=True, append_images=frames[1:])
    rows = {row.name: row for row in finish(make_workspace(tmp_path / "work", source)).collection.rows}
    assert (rows["turned.jpg"].width, rows["turned.jpg"].height) == (10, 30)
    assert rows["turned.jpg"].mode == "colour; turned as its camera noted"
    assert rows["moving.gif"].mode.endswith("first of 3 frames")


def test_a_catalogue_of_the_first_form_is_brought_up_to_date(tmp_path: Path) -> None:
    source = pictures(tmp_path / "pictures", red=2, blue=2)
    workspace = finish(make_workspace(tmp_path / "work", source)).workspace
    rows, classes = workspace.catalogue.images(), workspace.catalogue.classes()
    file = tmp_path / "work" / "catalogue.sqlite"
    file.unlink()
    base = sqlite3.connect(file)
    base.executescript(
        "CREATE TABLE classes (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);"
        "CREATE TABLE images (id INTEGER PRIMARY KEY, file TEXT NOT NULL UNIQUE, class INTEGER NOT NULL,"
        " given_set TEXT, width INTEGER NOT NULL, height INTEGER NOT NULL, mode TEXT NOT NULL, bytes INTEGER NOT NULL);"
        "CREATE TABLE skipped (file TEXT NOT NULL, reason TEXT NOT NULL); PRAGMA user_version = 1;"
    )
    base.executemany("INSERT INTO classes VALUES (?, ?)", enumerate(classes))
    base.executemany(
        "INSERT INTO images VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        [(r.number, r.file, r.label, r.given_set, r.width, r.height, r.mode, r.bytes) for r in rows],
    )
    base.commit()
    base.close()
    with pytest.raises(BadFile, match="earlier version"):
        Workspace(workspace.folder, "work", writable=False).catalogue.images()
    assert workspace.catalogue.images() == [replace(row, digest=0) for row in rows]
    again = SOURCES["folders"](tmp_path / "pictures", Reading())
    assert finish(importing.rescan(workspace, again)).changed == ()
    assert [row.digest for row in workspace.catalogue.images()] == [row.digest for row in rows]
    assert workspace.catalogue.corrections() == {}
    assert finish(gather(workspace, Plan())).pixels.shape[0] == 4
    with pytest.raises(BadFile, match="did not note it"):
        finish(look_again(workspace))


def inverted(file: Path) -> None:
    """Other pixels in a file of the same size."""
    if file.suffix == ".npz":
        with np.load(file) as arrays:
            stored = {name: arrays[name] for name in arrays.files}
        np.savez(file, **{name: 255 - array if array.ndim > 2 else array for name, array in stored.items()})
    else:
        pixels = np.asarray(Image.open(file).convert("RGB"))
        Image.fromarray(255 - pixels).save(file)


@pytest.mark.parametrize("ending", ["bmp", "npz"])
@pytest.mark.parametrize("old_time", [False, True])
def test_other_pixels_in_a_file_of_the_same_size_are_seen(tmp_path: Path, ending: str, old_time: bool) -> None:
    source = tmp_path / "source"
    if ending == "bmp":
        for name, level in (("dark", 20), ("light", 200)):
            (source / name).mkdir(parents=True)
            for k in range(4):
                Image.new("RGB", (8, 8), (level + k,) * 3).save(source / name / f"{k}.bmp")
        files = sorted(source.rglob("*.bmp"))
    else:
        levels = np.repeat(np.array([20, 200], np.uint8), 4)
        pixels = np.broadcast_to(levels[:, None, None, None], (8, 8, 8, 3))
        source = tmp_path / "source.npz"
        np.savez(source, x=pixels, y=np.repeat([0, 1], 4))
        files = [source]
    workspace = finish(make_workspace(tmp_path / "work", source)).workspace
    for again in (False, True):
        assert finish(look_again(workspace, contents=again)).changed == ()
    before, states = collection(workspace, Plan()).fingerprint, [file.stat() for file in files]
    sizes = [state.st_size for state in states]
    for file, state in zip(files, states, strict=True):
        inverted(file)
        if old_time:
            os.utime(file, ns=(state.st_atime_ns, state.st_mtime_ns))
    assert [file.stat().st_size for file in files] == sizes
    assert finish(look_again(workspace)).changed == tuple(range(1, 9))
    assert collection(workspace, Plan()).fingerprint != before
    assert finish(look_again(workspace)).changed == ()


def test_files_that_are_as_they_were_are_not_opened_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    source = pictures(tmp_path / "pictures", red=3, blue=3)
    monkeypatch.setattr(importing, "SETTLED", -(10**18))
    workspace = finish(make_workspace(tmp_path / "work", source)).workspace
    opened: list[Path] = []
    picture = Source.picture

    def counted(self: Source, file: Path, part: str, index: int) -> Picture:
        opened.append(file)
        return picture(self, file, part, index)

    monkeypatch.setattr(Source, "picture", counted)
    finish(look_again(workspace))
    assert not opened
    (source / "red" / "1.png").touch()
    finish(look_again(workspace))
    assert [file.name for file in opened] == ["1.png"]
    finish(look_again(workspace, contents=True))
    assert len(opened) == 7
