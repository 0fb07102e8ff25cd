from __future__ import annotations

from pathlib import Path

import pytest
from PIL import Image

from attentive_lens.errors import BadFile, BadValue
from attentive_lens.images.reading import Reading
from attentive_lens.images.sources import Found, Skipped, kind_of, open_source


def folder(root: Path, table: str, *names: str) -> Path:
    for name in names:
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        Image.new("RGB", (5, 4), (40, 90, 20)).save(root / name)
    (root / "list.csv").write_text(table)
    return root


def summary(place: Path, reading: Reading | None = None) -> tuple[list[tuple[str, str, str | None]], dict[str, str]]:
    items = list(open_source(place, reading).find())
    result = [(item.file.name, item.label, item.set_name) for item in items if isinstance(item, Found)]
    return result, {item.file.name: item.reason for item in items if isinstance(item, Skipped)}


def test_a_folder_with_a_table_and_images_is_read_by_the_table(tmp_path: Path) -> None:
    root = folder(tmp_path, "file,kind\na.png,broad\nb.png,narrow\n", "a.png", "b.png", "c.png")
    assert kind_of(root) == "listing"
    result, skipped = summary(root)
    assert result == [("a.png", "broad", None), ("b.png", "narrow", None)]
    assert skipped == {"c.png": "list.csv does not name it"}


def test_sets_semicolons_and_names_without_ending_are_understood(tmp_path: Path) -> None:
    root = folder(tmp_path, "label;image;split\nbroad;in/a;train\nnarrow;in/b;test\n", "in/a.png", "in/b.png")
    result, _ = summary(root / "list.csv")
    assert result == [("a.png", "broad", "training"), ("b.png", "narrow", "test")]


def test_a_table_without_heading_is_read_too(tmp_path: Path) -> None:
    root = folder(tmp_path, "a.png,broad\nb.png,narrow\n", "a.png", "b.png")
    assert summary(root)[0] == [("a.png", "broad", None), ("b.png", "narrow", None)]


def test_lines_that_are_wrong_are_told(tmp_path: Path) -> None:
    root = folder(tmp_path, "file,label\na.png,broad\na.png,narrow\nb.png,\nc.png\ngone.png,broad\n", "a.png", "b.png")
    result, skipped = summary(root)
    assert [name for name, *_ in result] == ["a.png", "gone.png"]
    assert skipped["a.png"] == "line 3 names it a second time"
    assert skipped["b.png"] == "line 4 gives it no label"
    assert skipped["list.csv"] == "line 5: it has 1 values, 2 are needed"
    with pytest.raises(BadFile, match="no such file"):
        source = open_source(root)
        source.picture(root / "gone.png", "", -1)


def test_a_line_that_is_none_of_a_table_is_named(tmp_path: Path) -> None:
    rows = "".join(f"{k}.png,{'ab'[k % 2]}\n" for k in range(600))
    root = folder(tmp_path, f"file,label\n{rows}{'x' * 200_000},a\n", *(f"{k}.png" for k in range(600)))
    with pytest.raises(BadFile, match="line 602 could not be read"):
        list(open_source(root).find())


def test_two_columns_that_can_be_labels_are_asked_for(tmp_path: Path) -> None:
    root = folder(tmp_path, "file,genus,habit\na.png,x,tree\nb.png,y,herb\n", "a.png", "b.png")
    with pytest.raises(BadValue, match=r"--read labels=genus or --read labels=habit"):
        open_source(root)
    assert [label for _, label, _ in summary(root, Reading(labels="habit"))[0]] == ["tree", "herb"]
