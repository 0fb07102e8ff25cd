"""Tables beside the images: joined by names, kept, read again, and what splits, slices and causes make of them."""

from __future__ import annotations

import csv
import sqlite3
from collections.abc import Sequence
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from tests.cli.running import command, last_object, run_words

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.collection import Library, collection
from attentive_lens.desk.images.columns import joined, known_columns, take_in
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.slices import FindSlices
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.tasks.causes import _said_by_tables
from attentive_lens.desk.training.cautions import caution_of_groups, caution_of_torn_groups
from attentive_lens.desk.training.executing import execute
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.images.split import SETS, part
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.split import Split
from attentive_lens.workspace import ImageRow, Workspace
from attentive_lens.workspace.corrections import Correction

ROWS = [
    ImageRow(number, file, 0, None, 8, 8, "colour", 9)
    for number, file in enumerate(("one/a.png", "one/b.png", "two/a.png", "two/sub/c.jpg"), 1)
]


def table(file: Path, rows: Sequence[Sequence[object]]) -> Path:
    with file.open("w", newline="", encoding="utf-8") as stream:
        csv.writer(stream).writerows(rows)
    return file


def test_images_are_known_by_their_names_as_far_as_these_tell_them_apart(tmp_path: Path) -> None:
    lines = [("Picture", "Patient No", "day"), ("one/a.png", "p1", "Mon"), ("b", "p1", ""), ("two\\a.png", "p2", "Tue"),
             ("sub/c", "p2", "Tue"), ("d.png", "p9", "Sun")]  # fmt: skip
    result = joined(ROWS, table(tmp_path / "t.csv", lines))
    assert result.by == "picture"
    assert result.columns == {
        "patient_no": {1: "p1", 2: "p1", 3: "p2", 4: "p2"},
        "day": {1: "Mon", 3: "Tue", 4: "Tue"},
    }
    assert (result.unknown, result.without) == (("d.png",), ())
    assert list(result.words("t.csv")) == [
        "t.csv, joined by its column picture: patient_no (2 words), day (2 words).",
        "1 line names no image here: «d.png».",
    ]
    same_stem = [
        ImageRow(1, "one/x.png", 0, None, 8, 8, "colour", 9),
        ImageRow(2, "two/x.png.tif", 0, None, 8, 8, "", 9),
    ]
    exact = joined(same_stem, table(tmp_path / "e.csv", [("file", "day"), ("x.png", "Mon")]))
    assert exact.columns == {"day": {1: "Mon"}}, "a whole name goes before one without its ending"
    numbered = joined(ROWS, table(tmp_path / "n.csv", [("image", "device"), (3, "A"), (1, "B")]))
    assert numbered.columns == {"device": {3: "A", 1: "B"}}
    assert numbered.without == (2, 4)
    assert "2 images are in no line of it: 2, 4." in list(numbered.words("n.csv"))


@pytest.mark.parametrize(
    ("lines", "by", "why"),
    [
        ([("file", "x"), ("a.png", "1")], "", "«a.png» in line 2 may be image 1 or 3"),
        ([("file", "x"), ("b.png", "1"), ("one/b", "2")], "", "image 2 stands in lines 2 and 3, with another x"),
        ([("file", "x"), ("q.png", "1")], "", "no column of it names the workspace's images; its columns are file, x"),
        ([("file", "x"), ("b.png", "1")], "name", "it has no column «name»"),
        ([("file", "x"), ("b.png", "1")], "x", "no line of its column x names an image here"),
        ([("file", "x", "x"), ("b.png", "1", "2")], "", "two are called alike"),
        ([("file", "x")], "", "1 lines"),
    ],
)
def test_what_cannot_be_joined_is_a_sentence(lines: list[tuple[str, ...]], by: str, why: str, tmp_path: Path) -> None:
    with pytest.raises(BadFile, match=why):
        joined(ROWS, table(tmp_path / "t.csv", lines), by)


def test_the_same_said_twice_is_said_once(tmp_path: Path) -> None:
    result = joined(ROWS, table(tmp_path / "t.csv", [("file", "x"), ("b.png", "1"), ("one/b.png", "1")]))
    assert result.columns == {"x": {2: "1"}}


@pytest.fixture
def tabled(station: Workspace, tmp_path: Path) -> Workspace:
    """The station with a table of slides' devices, days, and a slide of three pictures each."""
    rows = station.catalogue.images()
    lines: list[tuple[object, ...]] = [("file", "device", "slide", "exposure")]
    lines += [
        ("/".join(row.file.split("/")[-3:]), "AB"[row.number % 2], f"s{row.number // 3}", row.number / 7)
        for row in rows
    ]
    take_in(station, table(tmp_path / "slides.csv", lines))
    return station


def test_a_split_keeps_images_of_one_word_together(tabled: Workspace) -> None:
    plan = Plan().changed({"split.group_column": "slide", "split.test_fraction": 0.2})
    assert plan.split.keep_together == "column"
    known = collection(tabled, plan)
    by_slide: dict[str, set[str]] = {}
    for row, name in zip(known.rows, known.sets, strict=True):
        if row.given_set is None:
            by_slide.setdefault(f"s{row.number // 3}", set()).add(name)
    assert all(len(sets) == 1 for sets in by_slide.values())
    assert {"training", "validation"} <= set(known.sets)
    alone = collection(tabled, plan.changed({"split.keep_together": "none"}))
    assert alone.sets != known.sets
    with pytest.raises(BadValue, match="no table has a column «patient»; known are: device, exposure, slide"):
        finish(execute(tabled, tabled.claim_run(Plan().changed({"split.group_column": "patient"})), lambda: False))


def test_groups_that_are_torn_are_told(tabled: Workspace) -> None:
    plan = Plan().changed({"split.group_column": "slide"})
    groups, known = Library.read(tabled).groups(plan), collection(tabled, plan)
    sets: dict[int, set[str]] = {}
    for place, group in groups.items():
        sets.setdefault(group, set()).add(known.sets[place])
    torn = sum("training" in each and len(each & set(SETS)) > 1 for each in sets.values())
    words = caution_of_torn_groups(groups, known)
    assert words.startswith(f"{torn} of ") if torn else words == ""
    whole = next(
        group for group, each in sets.items() if each == {"training"} and list(groups.values()).count(group) > 1
    )
    same = next(place for place, group in groups.items() if group == whole)
    number = known.rows[same].number
    tabled.catalogue.correct({number: Correction(set_name="validation")})
    again = caution_of_torn_groups(groups, collection(tabled, plan))
    assert again.startswith(f"{torn + 1} of {len(sets)} groups")
    assert caution_of_torn_groups({}, known) == ""


@given(st.lists(st.tuples(st.integers(0, 3), st.integers(0, 9)), min_size=1, max_size=80), st.integers(0, 5))
def test_no_group_is_in_two_sets(images: list[tuple[int, int]], seed: int) -> None:
    groups = {place: group for place, (_, group) in enumerate(images) if group < 8}
    sets = part([label for label, _ in images], [None] * len(images), Split(test_fraction=0.2), seed, groups)
    for group in set(groups.values()):
        assert len({sets[place] for place, own in groups.items() if own == group}) == 1


def test_columns_cut_slices_and_are_parts_of_the_source_for_causes(tabled: Workspace) -> None:
    slices = finish(carry_out(FindSlices(str(tabled.folder), 1, "training"))).slices
    assert {each.by for each in slices} >= {"column device", "column exposure"}
    said = _said_by_tables(tabled)
    assert said[1] == ("device «B»",), "slides are of three pictures, and exposures of one"
    assert len(said) == len(tabled.catalogue.images())


def test_columns_are_listed_kept_and_forgotten_by_command(tabled: Workspace, tmp_path: Path) -> None:
    listed = last_object(command("columns", tabled.folder, "--json"))
    assert [each["name"] for each in listed["columns"]] == ["device", "exposure", "slide"]
    assert "device: 2 different words" in command("columns", tabled.folder)
    other = table(tmp_path / "other.csv", [("image", "device", "site"), (1, "C", "north")])
    assert "site (1 words)" in command("columns", tabled.folder, other)
    assert Library.read(tabled).columns["device"] == {1: "C"}, "in place of the one that was called so"
    assert Library.read(tabled).columns["slide"]
    assert "No table was taken in." in command("columns", tabled.folder, "--forget")
    assert known_columns(tabled) == {}
    assert run_words("columns", tabled.folder, tmp_path / "none.csv") == 1


def test_a_rescan_reads_tables_again_and_says_which_it_could_not(tabled: Workspace, tmp_path: Path) -> None:
    file = tmp_path / "slides.csv"
    file.write_text(file.read_text().replace(",A,", ",Z,"))
    assert last_object(command("rescan", tabled.folder, "--json"))["problems"] == []
    assert "Z" in set(known_columns(tabled)["device"].values())
    before = known_columns(tabled)
    file.unlink()
    words = command("rescan", tabled.folder)
    assert "slides.csv was not read again, and what it said stays" in words
    assert known_columns(tabled) == before


def test_they_come_through_a_restored_catalogue_and_an_earlier_one_has_none(tabled: Workspace, tmp_path: Path) -> None:
    before = known_columns(tabled)
    tabled.catalogue.file.write_bytes(b"damaged")
    tabled.catalogue.restore()
    assert known_columns(tabled) == before
    with closing(sqlite3.connect(tabled.catalogue.file)) as base, base:
        base.executescript(
            "DROP TABLE columns; DROP TABLE column_tables; ALTER TABLE images DROP COLUMN beyond;"
            "DROP TABLE outlines; DROP TABLE outline_places;"
            "ALTER TABLE corrections DROP COLUMN polygons; ALTER TABLE corrections DROP COLUMN runs;"
            "PRAGMA user_version = 4;"
        )
    assert known_columns(tabled) == {}
    take_in(tabled, tmp_path / "slides.csv")
    assert known_columns(tabled) == before


def test_scores_say_how_much_less_groups_stand_for(tabled: Workspace) -> None:
    plan = tabled.run(1).plan().changed({"split.group_column": "slide", "training.epochs": 1})
    finish(execute(tabled, tabled.claim_run(plan), lambda: False))
    scores = finish(carry_out(Score(str(tabled.folder), 2, "validation")))
    words = caution_of_groups(scores)
    count = len({number // 3 for number in scores.numbers.tolist()})
    assert f"The {scores.images} validation images are of {count} groups" in words
    alone, one = np.arange(scores.images), np.zeros(scores.images, np.int64)
    assert caution_of_groups(replace(scores, groups=alone)) == "", "every image a group of its own"
    assert caution_of_groups(replace(scores, groups=one)) == "", "one group tells nothing of others"
    assert words in command("score", tabled.folder, 2, "--on", "validation")
