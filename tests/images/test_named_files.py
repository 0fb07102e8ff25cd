"""A folder of files whose names carry the class: patterns are proposed, and one is chosen."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from attentive_lens.desk.requests.images import Preview
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.images.reading import Reading
from attentive_lens.images.sources import Found, Skipped, kind_of, open_source, readings_of
from attentive_lens.images.sources.flat import PATTERNS, Flat
from tests.answering import answer
from tests.cli.running import command, last_object

KINDS = ("smooth", "spiny", "winged")


def drawn(folder: Path, form: str, count: int = 4) -> Path:
    folder.mkdir(exist_ok=True)
    for number, kind in enumerate(KINDS):
        for k in range(count):
            Image.new("RGB", (6, 6), (80 * number, k, 9)).save(folder / form.format(kind=kind, k=k))
    return folder


def labels(folder: Path, pattern: str = "") -> list[str]:
    source = open_source(folder, Reading(labels=pattern))
    return sorted({item.label for item in source.find() if isinstance(item, Found)})


@pytest.mark.parametrize(
    "form",
    [
        "{kind}_{k:03}.png",
        "{kind}{k}.jpg",
        "{kind} ({k}).png",
        "{k:04}-{kind}.bmp",
        "tape{k}_{kind}.png",
        "{k}{kind}.png",
    ],
)
def test_the_usual_ways_to_name_files_are_found_out(form: str, tmp_path: Path) -> None:
    folder = drawn(tmp_path / "flat", form)
    assert kind_of(folder) == "named files"
    ways = readings_of(folder)
    assert any(labels(folder, way.labels) == list(KINDS) for way in ways), ways
    assert len({way.labels for way in ways}) == len(ways)


def test_where_several_patterns_fit_somebody_chooses(tmp_path: Path) -> None:
    folder = tmp_path / "flat"
    folder.mkdir()
    for tape in ("north", "south"):
        for kind in ("smooth", "spiny", "winged"):
            for k in range(3):
                Image.new("RGB", (4, 4), (k, 2, 3)).save(folder / f"{tape}_{kind}_{k}.png")
    with pytest.raises(BadValue, match="can be read in"):
        open_source(folder)
    ways = answer(Preview(str(folder), {})).ways
    classes = [sorted(way.classes) for way in ways]
    assert ["north", "south"] in classes
    assert ["smooth", "spiny", "winged"] in classes
    assert all(sum(way.sets.values()) == 18 for way in ways)
    pattern = ways[classes.index(["smooth", "spiny", "winged"])].reading["labels"]
    result = last_object(command("new", tmp_path / "work", folder, "--read", f"labels={pattern}", "--json"))
    assert result["classes"] == {"smooth": 6, "spiny": 6, "winged": 6}
    assert last_object(command("rescan", tmp_path / "work", "--json"))["changed"] == []


def test_what_does_not_fit_is_reported_and_a_bad_pattern_is_a_sentence(tmp_path: Path) -> None:
    folder = drawn(tmp_path / "flat", "{kind}_{k}.png")
    (folder / "notes.txt").write_text("by hand")
    Image.new("RGB", (4, 4)).save(folder / "0815.png")
    source = open_source(folder, Reading(labels="^([a-z]+)_"))
    lost = {item.file.name: item.reason for item in source.find() if isinstance(item, Skipped)}
    assert set(lost) == {"notes.txt", "0815.png"}
    assert "pattern" in lost["0815.png"]
    with pytest.raises(BadFile, match="no regular expression"):
        open_source(folder, Reading(labels="("))


def test_numbers_alone_are_no_classes_and_all_are_of_one(tmp_path: Path) -> None:
    folder = tmp_path / "flat"
    folder.mkdir()
    for k in range(12):
        Image.new("RGB", (4, 4)).save(folder / f"{k:05}.png")
    (folder / "notes.txt").write_text("x")
    source = open_source(folder)
    images, lost = ([item for item in source.find() if isinstance(item, kind)] for kind in (Found, Skipped))
    assert [(item.label, item.file.name) for item in images] == [("flat", f"{k:05}.png") for k in range(12)]
    assert [item.file.name for item in lost] == ["notes.txt"]
    again = open_source(folder, source.reading)
    assert len(list(again.find())) == 13


def test_folders_of_classes_are_not_taken_for_it(tmp_path: Path) -> None:
    folder = drawn(tmp_path / "flat", "{kind}_{k}.png")
    assert Flat.recognises(folder)
    (folder / "spiny").mkdir()
    assert not Flat.recognises(folder)
    assert not Flat.recognises(tmp_path / "nowhere")


@given(st.text(max_size=20))
def test_no_pattern_stumbles_over_a_name(stem: str) -> None:
    for pattern in PATTERNS:
        match = re.search(pattern, stem)
        assert match is None or isinstance(match.group(1), str)
