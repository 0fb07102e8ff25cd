"""Columns of the table that names the images become slices."""

from __future__ import annotations

import csv
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.columns import known_columns
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.tasks.slicing import columns_of
from attentive_lens.images.reading import Reading
from attentive_lens.images.sources.listing import Listing
from attentive_lens.workspace import Workspace


@pytest.fixture
def listed(tmp_path: Path) -> Workspace:
    """Twenty-four pictures named in a table, with camera, hour, a note on some, and a number of their own."""
    folder, random = tmp_path / "slides", np.random.default_rng(0)
    folder.mkdir()
    with (folder / "slides.csv").open("w", newline="", encoding="utf-8") as stream:
        table = csv.writer(stream)
        table.writerow(["file", "kind", "camera", "hour", "note", "identifier"])
        for k in range(24):
            Image.fromarray(random.integers(0, 255, (12, 12, 3)).astype(np.uint8)).save(folder / f"{k:02}.png")
            note = "wet" if k % 4 == 0 else ""
            table.writerow([f"{k:02}.png", "ab"[k % 2], f"camera {k % 3}", f"{k / 2}", note, f"slide-{k * 7}"])
    return finish(make_workspace(tmp_path / "work", folder, reading=Reading(labels="kind"))).workspace


def test_columns_of_the_table_are_numbers_or_words(listed: Workspace) -> None:
    rows = listed.catalogue.images()
    result = columns_of(known_columns(listed), rows)
    assert set(result) == {"column camera", "column hour", "column note"}, "an identifier cuts nothing"
    order = [int(row.name[:2]) for row in rows]
    assert result["column hour"].tolist() == [k / 2 for k in order]
    assert result["column camera"].tolist() == [f"camera {k % 3}" for k in order]
    assert result["column note"].tolist() == ["wet" if k % 4 == 0 else "none" for k in order]


def test_a_table_that_is_gone_tells_nothing(listed: Workspace) -> None:
    (listed.folder.parent / "slides" / "slides.csv").unlink()
    assert columns_of(known_columns(listed), listed.catalogue.images()) == {}


def test_a_table_that_was_mended_is_read_again(listed: Workspace) -> None:
    assert "camera 2" in set(known_columns(listed)["camera"].values())
    table = listed.folder.parent / "slides" / "slides.csv"
    table.write_text(table.read_text("utf-8").replace("camera 2", "the third camera"), "utf-8")
    assert "the third camera" in set(known_columns(listed)["camera"].values())


def test_a_listing_tells_its_other_columns(listed: Workspace) -> None:
    place = listed.folder.parent / "slides"
    (reading,) = Listing.readings(place, Reading(labels="kind"))
    columns = Listing(place, reading).columns()
    assert set(columns) == {"camera", "hour", "note", "identifier"}
    assert columns["hour"][str(place / "05.png")] == "2.5"


def test_folders_have_no_columns(station: Workspace) -> None:
    assert columns_of(known_columns(station), station.catalogue.images()) == {}
