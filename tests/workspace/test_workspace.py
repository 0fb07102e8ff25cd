from __future__ import annotations

import os
import sqlite3
import threading
from dataclasses import replace
from pathlib import Path

import pytest
from PIL import Image

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import BadFile, BadValue, LensError, NotHere
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.corrections import GONE, Correction


def pictures(root: Path, **classes: int) -> Path:
    for name, count in classes.items():
        (root / name).mkdir(parents=True, exist_ok=True)
        for k in range(count):
            Image.new("RGB", (12 + k, 9), (k, 90, 160)).save(root / name / f"{k}.png")
    return root


def test_a_workspace_lists_its_images_and_says_what_it_could_not_read(tmp_path: Path) -> None:
    source = pictures(tmp_path / "pictures", red=6, blue=5)
    (source / "red" / "bad.png").write_bytes(b"")
    (source / "red" / "notes.txt").write_text("x")
    made = finish(make_workspace(tmp_path / "work", source))
    assert made.collection.classes == ["blue", "red"]
    assert [row.number for row in made.collection.rows] == list(range(1, 12))
    assert (made.collection.rows[0].width, made.collection.rows[0].height) == (12, 9)
    reasons = {Path(file).name: why for file, why in made.collection.skipped}
    assert reasons.keys() == {"bad.png", "notes.txt"}
    assert "empty" in reasons["bad.png"]
    assert ["usual plan" in words for words in made.findings] == [False, False, True]
    again = collection(Workspace.open(tmp_path / "work"), Plan())
    assert again == made.collection


def test_images_inside_the_workspace_move_with_it(tmp_path: Path) -> None:
    source = pictures(tmp_path / "work" / "images", a=2, b=2)
    finish(make_workspace(tmp_path / "work", source))
    (tmp_path / "work").rename(tmp_path / "moved")
    moved = Workspace.open(tmp_path / "moved")
    assert all(moved.path_of(row).exists() for row in moved.catalogue.images())


def test_a_name_that_is_no_unicode_survives_the_catalogue(tmp_path: Path) -> None:
    source = pictures(tmp_path / "pictures", a=2, b=2)
    odd = os.fsencode(source / "a") + b"/\xff\n.png"
    os.rename(source / "a" / "0.png", odd)  # noqa: PTH104
    made = finish(make_workspace(tmp_path / "work", source))
    assert any(os.fsencode(made.workspace.path_of(row)) == odd for row in made.collection.rows)


@pytest.mark.parametrize(("classes", "reason"), [({}, "no folder"), ({"a": 0}, "gave no images")])
def test_too_few_images_are_refused_and_nothing_is_left(classes: dict[str, int], reason: str, tmp_path: Path) -> None:
    source = pictures(tmp_path / "pictures", **classes)
    source.mkdir(exist_ok=True)
    with pytest.raises((BadFile, BadValue), match=reason):
        finish(make_workspace(tmp_path / "work", source))
    assert not (tmp_path / "work").exists()


@pytest.mark.parametrize("flat", [False, True])
def test_images_of_one_class_are_taken_in_and_it_is_said_what_they_are_for(flat: bool, tmp_path: Path) -> None:
    source = pictures(tmp_path / "pictures", grains=5)
    made = finish(make_workspace(tmp_path / "work", source / "grains" if flat else source))
    assert made.workspace.catalogue.classes() == ["grains"]
    assert len(made.collection.rows) == 5
    assert any("networks that draw learn from them" in finding for finding in made.findings)


def test_a_stopped_import_leaves_no_workspace(tmp_path: Path) -> None:
    job = make_workspace(tmp_path / "work", pictures(tmp_path / "pictures", a=3, b=3))
    next(job)
    job.close()
    assert not (tmp_path / "work").exists()


def test_a_class_with_one_image_is_trained_on_and_named(tmp_path: Path) -> None:
    made = finish(make_workspace(tmp_path / "work", pictures(tmp_path / "pictures", many=20, one=1)))
    assert made.findings[:-1] == ["«one» has only 1 image: too few to learn from and to be judged by."]
    assert made.collection.count("training", 1) == 1


def test_a_folder_that_is_none_or_damaged_is_said(tmp_path: Path) -> None:
    with pytest.raises(NotHere, match="not a workspace"):
        Workspace.open(tmp_path)
    finish(make_workspace(tmp_path / "work", pictures(tmp_path / "pictures", a=2, b=2)))
    with pytest.raises(BadFile, match="workspace already"):
        finish(make_workspace(tmp_path / "work", tmp_path / "pictures"))
    base = tmp_path / "work" / "catalogue.sqlite"
    with sqlite3.connect(base) as connection:
        connection.execute("PRAGMA user_version = 99")
    connection.close()
    with pytest.raises(BadFile, match="later version"):
        Workspace.open(tmp_path / "work").catalogue.classes()
    base.write_bytes(b"rubbish" * 100)
    with pytest.raises(BadFile, match="damaged"):
        Workspace.open(tmp_path / "work").catalogue.classes()
    (tmp_path / "work" / "workspace.toml").write_text("format = 9\n")
    with pytest.raises(BadFile, match="reads format 1"):
        Workspace.open(tmp_path / "work")
    (tmp_path / "work" / "workspace.toml").write_text("format = ")
    with pytest.raises(BadFile, match="damaged"):
        Workspace.open(tmp_path / "work")


def test_runs_are_claimed_once_each_and_keep_their_plan(station: Workspace) -> None:
    plan = Plan(name="other")
    first, second = station.claim_run(plan), station.claim_run(plan)
    assert (first.number, second.number) == (2, 3)
    assert station.run(2).plan() == plan
    with pytest.raises(NotHere, match="runs 1, 2, 3"):
        station.run(9)
    (first.folder / "plan.toml").write_text("name = [")
    with pytest.raises(BadFile, match="not valid TOML"):
        first.plan()


def test_a_run_whose_process_died_is_broken_off(station: Workspace) -> None:
    run = station.claim_run(Plan())
    held = run.hold()
    assert RunReader(run).view().state == "training"
    os.close(held)
    assert RunReader(run).view().state == "broken off"
    assert RunReader(station.run(1)).view().state == "done"


def test_a_read_only_workspace_can_be_looked_at_and_not_trained_in(
    station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    # The test's user may be root, for whom no folder is read-only: what the system would say is put in its place.
    monkeypatch.setattr(os, "access", lambda place, mode: False)
    opened = Workspace.open(station.folder)
    assert not opened.writable
    assert len(opened.catalogue.images()) == 90

    def refuse(*_: object, **__: object) -> None:
        raise PermissionError(30, "Read-only file system")

    monkeypatch.setattr(Path, "mkdir", refuse)
    with pytest.raises(LensError, match="cannot be written"):
        opened.claim_run(Plan())
    with pytest.raises(LensError, match="read-only file system"):
        station.claim_run(Plan())


def test_the_catalogue_is_stamped_while_others_open_and_close_it(station: Workspace) -> None:
    catalogue = station.catalogue
    log = catalogue.file.with_name(catalogue.file.name + "-wal")
    stop = threading.Event()

    def come_and_go() -> None:
        while not stop.is_set():
            log.touch()
            log.unlink(missing_ok=True)

    other = threading.Thread(target=come_and_go)
    other.start()
    try:
        lengths = {len(catalogue.stamp()) for _ in range(4000)}
    finally:
        stop.set()
        other.join()
    assert lengths <= {2, 4}


def test_an_image_that_is_gone_is_not_brought_back_by_a_decision_about_its_set(station: Workspace) -> None:
    row = replace(station.catalogue.images()[0], given_set=GONE)
    decided = Correction(label=2, set_name="training", flagged=True).applied(row)
    assert (decided.given_set, decided.label, decided.flagged) == (GONE, 2, True)
    assert Correction(set_name="training").applied(replace(row, given_set="test")).given_set == "training"


def test_a_source_that_moved_takes_its_own_files_along_and_no_other_s(station: Workspace) -> None:
    catalogue = station.catalogue
    rows = catalogue.images()
    with catalogue._open() as base:
        base.execute("INSERT INTO origins (id, kind, place, reading) SELECT 2, kind, 'other', reading FROM origins")
        base.execute("UPDATE images SET file = ?, part = 'x', origin = 2 WHERE id = 2", (rows[0].file,))
    catalogue.move_origin(2, "elsewhere", {rows[0].file: "elsewhere/new.png"})
    after = catalogue.images()
    assert (after[0].file, after[1].file) == (rows[0].file, "elsewhere/new.png")
    assert {number: origin.place for number, origin in catalogue.origins().items()}[2] == "elsewhere"


def test_a_stamp_is_settled_only_when_its_last_change_is_a_while_ago(station: Workspace) -> None:
    catalogue, file = station.catalogue, station.folder / "catalogue.sqlite"
    os.utime(file)
    assert catalogue.settled_stamp() is None, "another change could have the same time"
    for each in station.folder.glob("catalogue.sqlite*"):
        os.utime(each, (1.0e9, 1.0e9))
    assert catalogue.settled_stamp() == catalogue.stamp()


def test_a_learning_rate_that_was_left_is_forgotten_once_and_for_all(station: Workspace) -> None:
    run = station.run(1)
    run.ask_rate(0.002)
    assert run.commanded_rate() == 0.002
    for _ in range(2):
        run.forget_rate()
        assert run.commanded_rate() is None
