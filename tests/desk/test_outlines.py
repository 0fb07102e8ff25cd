"""Outlines beside the images: read from masks, boxes and polygons, drawn, kept, read again, written, and cropped to."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import numpy as np
import onnx
import pytest
from PIL import Image
from tests.cli.running import command, last_object
from tests.conftest import small_plan

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.images.curating import Curating
from attentive_lens.desk.images.data import gather
from attentive_lens.desk.images.outline_files import gathered
from attentive_lens.desk.images.outlines import (
    caution_of_crops,
    known_outlines,
    regions_seen,
    take_outlines,
    taken_again,
    write_outlines,
)
from attentive_lens.desk.making import look_again
from attentive_lens.desk.requests.images import ResizeModes
from attentive_lens.desk.requests.models import AnswerNew, Score
from attentive_lens.desk.results.manifest import manifest
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.cautions import cautions_of
from attentive_lens.desk.training.executing import Launch, execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.images.outlines import Outline, coverage
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import ImageRow, Workspace
from attentive_lens.workspace.corrections import Correction

ROWS = [
    ImageRow(number, file, 0, None, 12, 8, "colour", 9)
    for number, file in enumerate(("one/a.png", "one/b.jpg", "two/a.png", "two/sub/c.tif"), 1)
]
BOX = Outline.of_box(2, 1, 4, 3)


def mask_file(file: Path, size: tuple[int, int] = (8, 12), mode: str = "L", inside: int = 255) -> Path:
    """White where `BOX` is."""
    pixels = np.zeros(size, np.uint8)
    pixels[1:4, 2:6] = inside
    file.parent.mkdir(parents=True, exist_ok=True)
    Image.fromarray(pixels).convert(mode).save(file)
    return file


def test_masks_are_known_by_their_images_names_whatever_their_ending(tmp_path: Path) -> None:
    for name in ("one/a.png", "b.png", "masks/two/a.tif", "c.bmp"):
        mask_file(tmp_path / name)
    (tmp_path / "readme.txt").write_text("by hand")
    result = finish(gathered(ROWS, tmp_path))
    assert sorted(result.outlines) == [1, 2, 4]
    assert result.skipped == [("masks/two/a.tif", "it may be the mask of image 1 or 3")]
    for number, outline in result.outlines.items():
        assert np.array_equal(outline.mask(8, 12), BOX.filled(8, 12)), number
    assert sorted(finish(gathered(ROWS, tmp_path / "b.png")).outlines) == [2], "a single picture will do"


@pytest.mark.parametrize(("mode", "inside"), [("L", 1), ("1", 255), ("P", 3), ("RGB", 9), ("RGBA", 255), ("LA", 7)])
def test_what_is_not_black_is_inside(tmp_path: Path, mode: str, inside: int) -> None:
    mask_file(tmp_path / "b.png", mode=mode, inside=inside)
    (outline,) = finish(gathered(ROWS, tmp_path)).outlines.values()
    assert np.array_equal(outline.mask(8, 12), BOX.filled(8, 12))


def test_a_mask_packed_with_loss_is_inside_from_half_of_white_and_a_clear_one_where_it_is_seen(tmp_path: Path) -> None:
    noisy = np.full((8, 12), 20, np.uint8)
    noisy[1:4, 2:6] = 250
    Image.fromarray(noisy).save(tmp_path / "b.jpg", quality=100)
    clear = np.zeros((8, 12, 4), np.uint8)
    clear[..., :3] = 255
    clear[1:4, 2:6, 3] = 255
    Image.fromarray(clear).save(tmp_path / "c.png")
    outlines = finish(gathered(ROWS, tmp_path)).outlines
    for number in (2, 4):
        assert np.array_equal(outlines[number].mask(8, 12), BOX.filled(8, 12)), number


def test_arrays_of_masks_go_by_the_images_names_or_their_order(tmp_path: Path) -> None:
    inside = BOX.filled(8, 12)
    np.save(tmp_path / "b.npy", inside.astype(np.float32))
    np.save(tmp_path / "c.npy", inside.T)
    result = finish(gathered(ROWS, tmp_path))
    assert list(result.outlines) == [2]
    assert np.array_equal(result.outlines[2].mask(8, 12), inside)
    assert result.skipped == [("c.npy", "it is an array of (12, 8), and image 4 has 8 rows of 12 pixels")]
    stack = np.stack([inside, ~inside, inside, np.zeros_like(inside)])
    np.save(tmp_path / "all.npy", stack.astype(np.uint8) * 7)
    outlines = finish(gathered(ROWS, tmp_path / "all.npy")).outlines
    assert sorted(outlines) == [1, 2, 3], "an empty mask says nothing"
    assert np.array_equal(outlines[2].mask(8, 12), ~inside)
    other = [replace(ROWS[0], width=9), *ROWS[1:]]
    assert finish(gathered(other, tmp_path / "all.npy")).skipped == [
        ("image 1", "it has 12×8 pixels, and the image 9×8")
    ]
    with pytest.raises(BadFile, match="it has 4 masks, and the workspace 3 images"):
        finish(gathered(ROWS[:3], tmp_path / "all.npy"))
    for name, content in (("bad.npy", b"no array"), ("objects.npy", None)):
        file = tmp_path / name
        if content is None:
            np.save(file, np.array([{}]), allow_pickle=True)
        else:
            file.write_bytes(content)
        with pytest.raises(BadValue, match="no array of masks"):
            finish(gathered(ROWS, file))


def test_masks_that_fit_no_image_are_told_each_and_the_others_taken(tmp_path: Path) -> None:
    mask_file(tmp_path / "b.png", size=(16, 24))
    mask_file(tmp_path / "c.png", inside=0)
    mask_file(tmp_path / "d.png")
    mask_file(tmp_path / "one" / "a.png")
    mask_file(tmp_path / "one" / "a.tif")
    (tmp_path / "two").mkdir()
    (tmp_path / "two" / "a.png").write_bytes(b"\x89PNG no more")
    result = finish(gathered(ROWS, tmp_path))
    assert sorted(result.outlines) == [1]
    reasons = dict(result.skipped)
    assert reasons["b.png"] == "it has 24×16 pixels, and image 2 has 12×8"
    assert reasons["c.png"] == "nothing in it is inside"
    assert reasons["d.png"] == "no image here is called so"
    assert reasons["one/a.tif"] == "another mask here is that of image 1 already"
    assert reasons["two/a.png"].startswith("it cannot be read")
    assert len(reasons) == 5


def test_boxes_and_polygons_are_read_from_tables_and_objects(tmp_path: Path) -> None:
    table = tmp_path / "boxes.csv"
    table.write_text(
        "file,left,top,width,height,polygon\none/a.png,2,1,4,3,\none/a.png,8,1,2,2,\nb,,,,,0 0 4 0 4 4\n"
        "two/a.png,5,5,30,2,\nc,1,1,1,x,\nelse.png,1,1,1,1,\nc,,,,,1 1 2\n"
    )
    result = finish(gathered(ROWS, table))
    assert result.outlines == {
        1: BOX | Outline.of_box(8, 1, 2, 2),
        2: Outline((((0.0, 0.0), (4.0, 0.0), (4.0, 4.0)),)),
    }
    assert [line for line, _ in result.skipped] == ["line 5", "line 6", "line 7", "line 8"]
    for (_, why), words in zip(
        result.skipped, ("35, 5 lies outside", "«x» is no", "no images", "3 numbers"), strict=True
    ):
        assert words in why
    corners = tmp_path / "corners.csv"
    corners.write_text("image;left;top;right;bottom\n3;2;1;6;4\n")
    assert finish(gathered(ROWS, corners)).outlines == {3: BOX}
    as_json = tmp_path / "shapes.json"
    as_json.write_text(
        json.dumps({"one/a.png": {"boxes": [[2, 1, 4, 3]]}, "3": BOX.write(), "b": {"boxes": [[0]]}, "z": {}})
    )
    result = finish(gathered(ROWS, as_json))
    assert result.outlines == {1: BOX, 3: BOX}
    assert [name for name, _ in result.skipped] == ["b", "z"]


@pytest.mark.parametrize(
    ("name", "content", "why"),
    [
        ("a.csv", "image,x\n1,2\n", "Call those of a box left, top, width, height"),
        ("a.csv", "who,left,top,width,height\nsomebody,1,1,1,1\n", "no column of it names"),
        ("a.json", "{", "it is no JSON"),
        ("a.json", "[" * 100_000, "it is no JSON"),
        ("a.json", "[1]", "no object with one entry"),
        ("a.json", "{}", "there is nothing in it"),
        ("a.json", '{"9": {"boxes": [[1, 1, 2, 2]]}}', "9: no images here are called so"),
        ("missing.json", None, "there is no"),
        ("missing", None, "there is no"),
    ],
)
def test_a_file_that_tells_of_no_object_here_changes_nothing(
    station: Workspace, tmp_path: Path, name: str, content: str | None, why: str
) -> None:
    before = known_outlines(station)
    if content is not None:
        (tmp_path / name).write_text(content.replace('"9"', '"999"') if "no images" in why else content)
    why = why.replace("9: no", "999: no")
    for alone in (False, True):
        with pytest.raises(BadFile, match=why):
            finish(take_outlines(station, tmp_path / name, alone))
    assert known_outlines(station) == before
    assert len(before) == 90, "the station's own stay"


def test_what_is_drawn_stands_before_what_was_taken_and_can_be_undone(station: Workspace) -> None:
    taken = known_outlines(station)
    curating = Curating(station)
    curating.change("outlined image 3", [3], lambda now: replace(now, outline=BOX))
    curating.change("nothing in image 4", [4], lambda now: replace(now, outline=Outline()))
    assert known_outlines(station)[3] == BOX
    assert 4 not in known_outlines(station)
    station.catalogue.outlines.forget()
    assert known_outlines(station) == {3: BOX}, "drawn by hand is no file's"
    assert taken_again_of(station) == []
    assert known_outlines(station) == {3: BOX}, "what was forgotten is not read again"
    finish(take_outlines(station, station.folder / "outlines.json"))
    assert known_outlines(station) == {**{n: each for n, each in taken.items() if n != 4}, 3: BOX}
    assert Workspace.open(station.folder).catalogue.corrections()[3] == Correction(outline=BOX)
    curating.undo()
    curating.undo()
    assert known_outlines(station) == taken
    curating.redo()
    assert known_outlines(station)[3] == BOX


def taken_again_of(workspace: Workspace) -> list[str]:
    return finish(taken_again(workspace))


def test_a_rescan_reads_the_outlines_again_and_keeps_them_where_their_file_is_gone(station: Workspace) -> None:
    file = station.folder / "outlines.json"
    before = known_outlines(station)
    file.write_text(json.dumps({str(number): BOX.write() for number in (1, 2)}))
    assert finish(look_again(station)).problems == ()
    assert known_outlines(station) == {**before, 1: BOX, 2: BOX}
    file.write_text(json.dumps({"1": BOX.write(), "nobody": BOX.write()}))
    (problem,) = finish(look_again(station)).problems
    assert problem == "1 entry of outlines.json not taken, the first: nobody, no images here are called so"
    file.unlink()
    (problem,) = finish(look_again(station)).problems
    assert problem.startswith("outlines.json was not read again, and its outlines stay")
    assert known_outlines(station)[1] == BOX


def test_drawn_outlines_come_back_with_the_decisions_when_a_catalogue_is_restored(station: Workspace) -> None:
    station.catalogue.keep_copy()
    mask = Outline.of_mask(BOX.filled(64, 64))
    station.catalogue.correct(
        {5: Correction(label=2, outline=BOX), 6: Correction(outline=mask), 7: Correction(outline=Outline())}
    )
    known = known_outlines(station)
    station.catalogue.file.write_bytes(b"no database")
    station.catalogue.restore()
    assert known_outlines(station) == known
    assert station.catalogue.corrections()[5] == Correction(label=2, outline=BOX)
    assert known[6] == mask
    assert 7 not in known


def test_a_catalogue_from_before_there_were_outlines_is_brought_up_to_date(station: Workspace) -> None:
    station.catalogue.correct({2: Correction(flagged=True)})
    with closing(sqlite3.connect(station.catalogue.file)) as base, base:
        for table in ("outlines", "outline_places"):
            base.execute(f"DROP TABLE {table}")
        for column in ("polygons", "runs"):
            base.execute(f"ALTER TABLE corrections DROP COLUMN {column}")
        base.execute("PRAGMA user_version = 6")
    again = Workspace.open(station.folder)
    assert known_outlines(again) == {}
    assert again.catalogue.corrections() == {2: Correction(flagged=True)}
    again.catalogue.correct({2: Correction(outline=BOX)})
    assert known_outlines(again) == {2: BOX}


def test_outlines_are_written_and_read_back_as_a_file_and_as_masks(station: Workspace, tmp_path: Path) -> None:
    known = known_outlines(station)
    text = command("outlines", station.folder, "--out", tmp_path / "all.json")
    assert "90 of 90 images have an outline, 0 of them drawn by hand." in text
    made = last_object(command("outlines", station.folder, tmp_path / "all.json", "--forget", "--json"))
    assert (made["images"], made["taken"], made["skipped"], made["places"]) == (
        90,
        90,
        [],
        [str(tmp_path / "all.json")],
    )
    assert known_outlines(station) == known
    command("outlines", station.folder, "--out", tmp_path / "masks")
    made = last_object(command("outlines", station.folder, tmp_path / "masks", "--forget", "--json"))
    assert (made["images"], made["skipped"]) == (90, [])
    for number, outline in known_outlines(station).items():
        assert np.array_equal(outline.mask(64, 64), known[number].filled(64, 64))
    assert command("outlines", station.folder, "--forget").splitlines()[-1].startswith("0 of 90 images have an outline")
    with pytest.raises(BadFile, match="no outlines"):
        write_outlines(station, tmp_path / "none.json")
    assert "there is no" in command_fails(station, tmp_path / "nothing")


def command_fails(station: Workspace, place: Path) -> str:
    return str(last_object(command("outlines", station.folder, place, "--json", code=1))["error"])


def test_a_plan_that_crops_sees_the_objects_and_images_without_an_outline_whole(station: Workspace) -> None:
    station.catalogue.correct({2: Correction(outline=Outline())})
    plan = Plan().changed({"preprocessing.crop_to": "object", "preprocessing.input_size": 24})
    whole = plan.changed({"preprocessing.crop_to": "image"})
    cropped_data, data = finish(gather(station, plan)), finish(gather(station, whole))
    assert np.array_equal(cropped_data.pixels[1], data.pixels[1])
    assert not np.array_equal(cropped_data.pixels[2], data.pixels[2])
    assert cropped_data.fingerprint != data.fingerprint
    run = station.claim_run(plan.changed({"training.epochs": 1, "network": "two blocks"}))
    finish(execute(station, run, lambda: False))
    crops = {entry.image: entry.crop for entry in manifest(station, run)}
    noted = {k + 1: " ".join(map(str, region)) for k, region in enumerate(cropped_data.regions.tolist()) if any(region)}
    assert {image: crop for image, crop in crops.items() if crop} == noted
    assert noted
    exported = last_object(command("export", station.folder, run.number, "--out", station.folder / "a.onnx", "--json"))
    assert "crop them first" in exported["caution"]
    assert "crop them first" in onnx.load(station.folder / "a.onnx").doc_string
    rows, outlines = collection(station, plan).rows, known_outlines(station)
    larger = [
        coverage(outlines[k], 64, 64, plan.preprocessing).mean()
        - coverage(outlines[k], 64, 64, whole.preprocessing).mean()
        for k in outlines
    ]
    assert len(rows) == 90
    assert min(larger) >= 0
    assert np.mean(larger) > 0.1, "the objects fill more of what is seen"
    station.catalogue.correct({3: Correction(outline=BOX)})
    assert not np.array_equal(finish(gather(station, plan)).pixels[2], cropped_data.pixels[2]), "nothing old is taken"
    assert np.array_equal(finish(gather(station, whole)).pixels[2], data.pixels[2])


def test_who_crops_is_told_of_images_without_an_outline_and_of_files(station: Workspace) -> None:
    plan = Plan().changed({"preprocessing.crop_to": "object"})
    every = range(1, 91)
    assert caution_of_crops(station, plan.preprocessing, every) == ""
    station.catalogue.correct({n: Correction(outline=Outline()) for n in (1, 2)})
    words = "2 of 90 images have no outline and are seen whole, where the others are cropped."
    assert caution_of_crops(station, plan.preprocessing, every) == words
    assert caution_of_crops(station, Plan().preprocessing, every) == ""
    assert Plan().preprocessing.caution_of_files == ""
    assert finish(carry_out(ResizeModes(str(station.folder), plan.write()))).caution == words
    row = station.catalogue.images()[0]
    run = station.claim_run(small_plan().changed({"preprocessing.crop_to": "object"}))
    finish(execute(station, run, lambda: False))
    request = AnswerNew(str(station.folder), run.number, (str(station.folder / row.file),))
    assert "trained on crops to the object" in finish(carry_out(request)).caution
    assert finish(carry_out(AnswerNew(str(station.folder), 1, request.places))).caution == ""


def test_a_run_on_crops_that_broke_off_does_not_go_on_with_others(station: Workspace) -> None:
    plan = small_plan().changed({"preprocessing.crop_to": "object", "training.epochs": 3})
    runs = [station.claim_run(each) for each in (plan, plan.changed({"preprocessing.crop_to": "image"}))]
    for run in runs:
        finish(execute(station, run, lambda run=run: run.trained() >= 1))  # type: ignore[misc]
        assert RunReader(run).view().state == "stopped"
    cropping, whole = runs
    seen = regions_seen(station, collection(station, plan).rows, plan.preprocessing)
    assert np.array_equal(cropping.regions(), seen)
    assert not whole.regions().any()
    station.catalogue.correct({3: Correction(outline=BOX)})
    with pytest.raises(BadValue, match="1 image has other contents or outlines since it began"):
        finish(execute(station, cropping, lambda: False, Launch(resume=True)))
    assert finish(execute(station, whole, lambda: False, Launch(resume=True))).outcome.state == "done"
    station.catalogue.correct({3: Correction()})
    assert finish(execute(station, cropping, lambda: False, Launch(resume=True))).outcome.state == "done"
    station.catalogue.correct({3: Correction(outline=BOX)})
    scores = finish(carry_out(Score(str(station.folder), cropping.number)))
    best = RunReader(cropping).view().best
    words = cautions_of(station, cropping, scores, [], best)
    assert any(sentence.startswith("1 image has other contents now than when run") for sentence in words)
    assert not any("other contents" in sentence for sentence in cautions_of(station, whole, scores, [], best))
