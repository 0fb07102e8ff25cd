from __future__ import annotations

from collections import Counter
from pathlib import Path

import numpy as np
import pytest

from attentive_lens.core.jobs import finish
from attentive_lens.core.random import random_generator
from attentive_lens.demo.grains import TYPES
from attentive_lens.demo.slide import GRAIN, MARK, Mark, photograph
from attentive_lens.demo.station import COPIED, MARKED_TYPE, RARE_TYPE, make, read_key
from attentive_lens.errors import BadFile, BadValue, LensError
from attentive_lens.images.decoding import decode


@pytest.mark.parametrize("kind", TYPES)
def test_a_photograph_shows_a_grain_that_is_darker_than_the_slide(kind: str) -> None:
    for k in range(6):
        shot = photograph(kind, random_generator(1, "test", k), 64)
        assert shot.pixels.shape == (64, 64, 3)
        grain = shot.mask & GRAIN > 0
        assert 0.05 < grain.mean() < 0.5
        clear = shot.mask == 0
        assert shot.pixels[grain].mean() < shot.pixels[clear].mean() - 20


def test_a_photograph_is_a_function_of_its_random_numbers_and_of_the_side() -> None:
    first, again = (photograph("netted", random_generator(1, "test", 4), 96).pixels for _ in range(2))
    assert np.array_equal(first, again)
    assert first.shape == (96, 96, 3)
    assert not np.array_equal(first, photograph("netted", random_generator(1, "test", 5), 96).pixels)


def test_the_mark_stands_where_and_in_the_colour_it_was_ordered() -> None:
    mark = Mark(x=0.8, y=0.2, absorbance=(0.1, 2.0, 2.0))
    marked = photograph("smooth", random_generator(1, "test", 4), 64, mark)
    where = marked.mask & MARK > 0
    row, column = np.argwhere(where).mean(axis=0)
    assert abs(row / 64 - 0.2) < 0.1
    assert abs(column / 64 - 0.8) < 0.1
    red, green, blue = marked.pixels[where].mean(axis=0)
    assert red > green + 50
    assert red > blue + 50


def test_the_station_on_disk_is_what_its_answer_key_says(tmp_path: Path) -> None:
    finish(make(tmp_path / "a", 240, 5))
    finish(make(tmp_path / "b", 240, 5))
    rows, masks = read_key(tmp_path / "a")
    readable = [row for row in rows if "unreadable" not in row.faults]
    assert len(readable) == len(masks) == 240
    counts = Counter(row.kind for row in readable)
    assert counts[RARE_TYPE] == 9
    assert {counts[kind] for kind in TYPES if kind != RARE_TYPE} <= {46, 47}
    for row, mask in zip(readable, masks, strict=True):
        file = tmp_path / "a" / "images" / row.file
        assert file.read_bytes() == (tmp_path / "b" / "images" / row.file).read_bytes()
        assert row.file.split("/")[:2] == [row.set_name, row.folder]
        assert bool((mask & MARK).any()) == ("mark" in row.faults)
        assert ("wrong label" in row.faults) == (row.folder != row.kind)
    for row in rows:
        if "unreadable" in row.faults:
            with pytest.raises(LensError):
                decode(tmp_path / "a" / "images" / row.file)
    training = [r for r in readable if r.set_name == "training"]
    test = [r for r in readable if r.set_name == "test"]
    assert all(r.kind == MARKED_TYPE for r in training if "mark" in r.faults)
    assert all(r.kind != MARKED_TYPE for r in test if "mark" in r.faults)
    assert sum("mark" in r.faults for r in training if r.kind == MARKED_TYPE) > 24
    assert sum("mark" in r.faults for r in test) > 2
    assert any("wrong label" in r.faults for r in training)
    assert decode(tmp_path / "a" / "images" / readable[0].file).pixels.shape == (64, 64, 3)
    by_file = {row.file: (row, mask) for row, mask in zip(readable, masks, strict=True)}
    copies = [(row, fault[8:]) for row in readable for fault in row.faults if fault.startswith("copy of ")]
    assert len(copies) == round(len(test) * COPIED)
    for row, file in copies:
        first, mask = by_file[file]
        assert (row.set_name, first.set_name, row.kind) == ("test", "training", first.kind)
        assert abs(int((by_file[row.file][1] & GRAIN > 0).sum()) - int((mask & GRAIN > 0).sum())) < 150
    assert any("out of focus" in row.faults for row in readable)


def test_a_station_is_not_made_over_another_or_too_small(tmp_path: Path) -> None:
    finish(make(tmp_path, 24, 0))
    made = (tmp_path / "answer-key" / "key.csv").read_bytes()
    assert finish(make(tmp_path, 24, 0)) == tmp_path / "images", "the same is there already"
    with pytest.raises(BadFile, match="exists already"):
        finish(make(tmp_path, 24, 1))
    assert (tmp_path / "answer-key" / "key.csv").read_bytes() == made
    with pytest.raises(BadValue, match="too few"):
        finish(make(tmp_path / "c", 5, 0))


def test_a_station_stopped_half_way_leaves_nothing_and_can_be_made_again(tmp_path: Path) -> None:
    job = make(tmp_path, 200, 0)
    for _ in range(2):
        next(job)
    job.close()
    assert list(tmp_path.iterdir()) == []
    assert len(list(finish(make(tmp_path, 24, 0)).rglob("*.png"))) == 28
