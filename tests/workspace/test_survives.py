"""Workspaces that are killed, moved, damaged, nested in their source, and given new classes."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import pytest
from PIL import Image
from tests.answering import answer
from tests.images.drawn import leaves

from attentive_lens.core.jobs import finish
from attentive_lens.demo.station import make
from attentive_lens.desk.images.curating import Curating, moved, read_list, relabelled
from attentive_lens.desk.making import look_again, make_demo, make_workspace, move_source
from attentive_lens.desk.requests.explaining import Explain
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.training.executing import Launch, execute
from attentive_lens.errors import BadFile, LensError, NotHere
from attentive_lens.images.sources import Skipped, open_source
from attentive_lens.images.sources.base import class_name
from attentive_lens.workspace import Correction, Workspace
from attentive_lens.workspace.catalogue import Catalogue


def drawn(folder: Path, kinds: tuple[str, ...] = ("broad", "narrow"), count: int = 4) -> Path:
    images = leaves(count * len(kinds))
    for k, kind in enumerate(kinds):
        (folder / kind).mkdir(parents=True)
        for n in range(count):
            Image.fromarray(images[k * count + n]).save(folder / kind / f"{kind} {n}.png")
    return folder


def test_a_new_class_leaves_earlier_runs_usable_and_goes_with_its_last_image(
    station: Workspace, tmp_path: Path
) -> None:
    folder = str(station.folder)
    before = answer(Score(folder, 1, "test"))
    image = before.answers[0].image
    (tmp_path / "l.csv").write_text(f"image,label\n{image},air bubble\n", "utf-8")
    read_list(station, tmp_path / "l.csv", new_classes=True)
    assert station.catalogue.classes()[-1] == "air bubble"
    after = answer(Score(folder, 1, "test"))
    assert after.unknown == 1
    assert after.images == before.images - 1
    others = tuple(own for own in before.answers if own.image != image)
    assert after.answers == others
    assert answer(Explain(RunImage(folder, 1, others[0].image))).predicted
    with pytest.raises(NotHere, match="air bubble"):
        answer(Explain(RunImage(folder, 1, image)))
    (tmp_path / "l.csv").write_text(f"image,label\n{image},spiny\n", "utf-8")
    read_list(station, tmp_path / "l.csv")
    assert "air bubble" not in station.catalogue.classes()
    assert answer(Score(folder, 1, "test")).unknown == 0


def test_a_run_goes_on_though_a_class_was_added(station: Workspace, tmp_path: Path) -> None:
    plan = station.run(1).plan().changed({"training.epochs": 3})
    whole = finish(execute(station, station.claim_run(plan), lambda: False))
    run = station.claim_run(plan)
    steps = iter(range(10**6))
    finish(execute(station, run, lambda: next(steps) > 4))
    station.catalogue.add_class("air bubble")
    again = finish(execute(station, run, lambda: False, Launch(resume=True)))
    assert again.weights_sha256 == whole.weights_sha256


def test_a_run_of_other_images_is_said_not_to_fit(station: Workspace, tmp_path: Path) -> None:
    other = finish(make_workspace(tmp_path / "w", drawn(tmp_path / "leaves"))).workspace
    shutil.copytree(station.folder / "runs", other.folder / "runs")
    with pytest.raises(NotHere, match="does not fit these images"):
        answer(Score(str(other.folder), 1, "validation"))


def test_a_workspace_within_its_source_takes_none_of_its_own_pictures(tmp_path: Path) -> None:
    source = drawn(tmp_path / "leaves")
    place = finish(make_workspace(source / "work", source)).workspace
    assert len(place.catalogue.images()) == 8
    (place.folder / "results").mkdir()
    shutil.copy(source / "broad" / "broad 0.png", place.folder / "results" / "map.png")
    result = finish(look_again(place))
    assert (result.added, result.gone) == ((), ())
    assert place.catalogue.classes() == ["broad", "narrow"]


def test_a_moved_source_is_named_anew_and_everything_stays(tmp_path: Path) -> None:
    source = drawn(tmp_path / "leaves")
    place = finish(make_workspace(tmp_path / "work", source)).workspace
    Curating(place).change("moved", [3], moved("test"))
    rows = place.catalogue.images()
    source.rename(tmp_path / "elsewhere")
    with pytest.raises(BadFile, match="gone"):
        finish(look_again(place))
    (tmp_path / "empty").mkdir()
    for wrong, reason in (("nowhere", "nothing"), ("empty", "none of the workspace's images")):
        with pytest.raises(BadFile, match=reason):
            move_source(place, tmp_path / wrong)
    assert place.catalogue.images() == rows
    (tmp_path / "elsewhere" / "broad" / "broad 3.png").unlink()
    assert move_source(place, tmp_path / "elsewhere") == (7, 1)
    result = finish(look_again(place))
    assert (result.added, result.changed, result.gone) == ((), (), (4,))
    assert [row.label for row in place.catalogue.images()] == [row.label for row in rows]
    assert place.catalogue.corrections() == {3: Correction(set_name="test")}


@pytest.mark.parametrize("harm", [b"", b"not a database at all, of any kind" * 90, None])
def test_a_damaged_catalogue_is_restored_with_every_decision(harm: bytes | None, station: Workspace) -> None:
    curating = Curating(station)
    curating.change("moved", [3, 4], moved("test"))
    curating.change("relabelled", [5], relabelled(2))
    curating.change("moved", [9], moved("excluded"))
    curating.undo()
    images, decided = station.catalogue.images(), station.catalogue.corrections()
    classes = station.catalogue.classes()
    with (station.folder / "decisions.jsonl").open("ab") as stream:
        stream.write(b'{"at": 1, "deci')
    for file in station.folder.glob("catalogue.sqlite-*"):
        file.unlink()
    file = station.folder / "catalogue.sqlite"
    file.write_bytes(file.read_bytes()[: file.stat().st_size // 2] + bytes(4096) if harm is None else harm)
    with pytest.raises(LensError) as caught:
        Workspace.open(station.folder).catalogue.images()
        Workspace.open(station.folder).catalogue.corrections()
    assert "attentive-lens restore" in str(caught.value)
    assert station.catalogue.restore() == (90, 3)
    assert station.catalogue.images() == images
    tested = Correction(set_name="test")
    assert station.catalogue.corrections() == decided == {3: tested, 4: tested, 5: Correction(label=2)}
    assert station.catalogue.classes() == classes
    assert (station.folder / "damaged-catalogue.sqlite").exists()


def test_without_a_copy_restoring_says_so(station: Workspace) -> None:
    station.catalogue.copy.unlink()
    with pytest.raises(BadFile, match="no copy"):
        station.catalogue.restore()


def earlier(file: Path) -> None:
    """A catalogue of the first version."""
    file.unlink(missing_ok=True)
    base = sqlite3.connect(file)
    base.executescript(
        """CREATE TABLE classes (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
        CREATE TABLE skipped (file TEXT NOT NULL, reason TEXT NOT NULL);
        CREATE TABLE images (id INTEGER PRIMARY KEY, file TEXT NOT NULL UNIQUE, class INTEGER NOT NULL,
            given_set TEXT, width INTEGER, height INTEGER, mode TEXT, bytes INTEGER);
        INSERT INTO classes VALUES (0, 'a'), (1, 'b');
        INSERT INTO images VALUES (1, 'x.png', 0, NULL, 4, 4, 'colour', 10), (2, 'y.png', 1, NULL, 4, 4, 'colour', 10);
        PRAGMA user_version = 1; PRAGMA journal_mode = WAL;"""
    )
    base.close()


def test_four_processes_bring_an_early_catalogue_up_to_date_at_once(tmp_path: Path) -> None:
    file = tmp_path / "catalogue.sqlite"
    code = (
        "import sys, time; from pathlib import Path; from attentive_lens.workspace.catalogue import Catalogue\n"
        "time.sleep(max(0, float(sys.argv[2]) - time.time()))\n"
        "print(len(Catalogue(Path(sys.argv[1])).images()))"
    )
    earlier(file)
    command = [sys.executable, "-c", code, str(file), str(time.time() + 2)]
    running = [subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) for _ in range(4)]
    summary = [process.communicate(timeout=60) for process in running]
    assert [out.strip() for out, _ in summary] == ["2"] * 4, summary
    assert [row.file for row in Catalogue(file).images()] == ["x.png", "y.png"]


@pytest.mark.parametrize("steps", [1, 2, 3, 4, 5])
def test_a_demo_killed_anywhere_is_made_by_asking_again(steps: int, tmp_path: Path) -> None:
    whole = finish(make_demo(tmp_path / "whole", 30, 1)).workspace
    job = make_demo(tmp_path / "cut", 30, 1)
    for _ in range(steps):
        try:
            next(job)
        except StopIteration:
            break
    job.close()
    again = finish(make_demo(tmp_path / "cut", 30, 1)).workspace
    assert [row.file for row in again.catalogue.images()] == [row.file for row in whole.catalogue.images()]


def test_a_demo_killed_between_its_key_and_its_images_or_before_its_catalogue_is_made_again(tmp_path: Path) -> None:
    finish(make(tmp_path / "a", 30, 1))
    assert finish(make_demo(tmp_path / "a", 30, 1)).workspace.catalogue.images()
    finish(make(tmp_path / "b", 30, 1))
    shutil.rmtree(tmp_path / "b" / "images")
    assert finish(make_demo(tmp_path / "b", 30, 1)).workspace.catalogue.images()
    finish(make(tmp_path / "c", 30, 1))
    with pytest.raises(BadFile, match="a collection stands there"):
        finish(make_demo(tmp_path / "c", 36, 1))
    finish(make(tmp_path / "d", 30, 1))
    (tmp_path / "d" / "catalogue.sqlite").write_bytes(b"half")
    assert finish(make_demo(tmp_path / "d", 30, 1)).workspace.catalogue.images()


def test_the_marker_is_never_empty(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    source = drawn(tmp_path / "leaves")
    monkeypatch.setattr(os, "fsync", lambda _: (_ for _ in ()).throw(OSError(28, "No space left on device")))
    with pytest.raises(BadFile, match="no space left"):
        finish(make_workspace(tmp_path / "work", source))
    assert not (tmp_path / "work" / "workspace.toml").exists()
    monkeypatch.undo()
    place = finish(make_workspace(tmp_path / "work", source)).workspace
    assert sorted(p.name for p in place.folder.iterdir() if p.name.startswith(".")) == []
    (place.folder / "workspace.toml").write_text("", "utf-8")
    with pytest.raises(LensError):
        Workspace.open(place.folder)


def test_a_class_s_folder_without_images_is_told(tmp_path: Path) -> None:
    source = drawn(tmp_path / "leaves")
    (source / "round").mkdir()
    (source / "long").mkdir()
    (source / "long" / "notes.txt").write_text("none yet")
    summary = {item.file.name: item.reason for item in open_source(source).find() if isinstance(item, Skipped)}
    assert "holds no image" in summary["round"]
    assert "holds no image" in summary["long"]
    assert "image's" in summary["notes.txt"]


def test_names_that_are_no_text_or_steer_a_terminal_are_shown_as_escapes(tmp_path: Path) -> None:
    source = drawn(tmp_path / "leaves")
    (source / "broad").rename(os.fsdecode(os.fsencode(source) + b"/br\xffad"))
    (source / "narrow").rename(source / " na\x1b[31mrrow ")
    place = finish(make_workspace(tmp_path / "work", source)).workspace
    assert place.catalogue.classes() == ["br\\udcffad", "na\\x1b[31mrrow"]
    assert all(name.isprintable() for name in place.catalogue.classes())
    assert len(place.catalogue.images()) == 8
    assert class_name("  ") == "(blank)"
    assert class_name("wärme 東") == "wärme 東"
    assert json.dumps(place.catalogue.classes())


@pytest.mark.parametrize("name", ["a" * 300, "b/" * 3000])
def test_a_path_too_long_is_a_sentence(name: str, tmp_path: Path) -> None:
    source = drawn(tmp_path / "leaves")
    with pytest.raises((LensError, OSError)):
        finish(make_workspace(tmp_path / name, source))
    (tmp_path / "file").write_text("x")
    with pytest.raises(LensError):
        finish(make_workspace(tmp_path / "file", source))


@pytest.mark.parametrize("data", [b"", b"PK\x03\x04 and no more", b"\x93NUMPY", b"nothing of the kind"])
def test_a_run_whose_note_of_images_is_damaged_is_one_without(data: bytes, station: Workspace) -> None:
    run = station.run(1)
    assert run.images() is not None
    assert len(run.digests())
    (run.folder / "images.npz").write_bytes(data)
    assert run.images() is None
    assert len(run.digests()) == 0
    assert run.classes() == ()
