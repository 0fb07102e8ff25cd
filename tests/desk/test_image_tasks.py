"""Tasks of the Images stage, and what is done about findings."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.conftest import small_plan

from attentive_lens.demo.station import read_key
from attentive_lens.desk import tasks
from attentive_lens.desk.curating import Curating, act, moved
from attentive_lens.desk.front import collection
from attentive_lens.desk.making import make_demo
from attentive_lens.desk.training import execute
from attentive_lens.errors import LensError, NotHere
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.progress import finish
from attentive_lens.workspace import Workspace


def test_measures_tell_bright_from_dark_and_sharp_from_blurred(station: Workspace) -> None:
    first = finish(tasks.measures(str(station.folder)))
    assert {name: array.shape for name, array in first.arrays.items()} == dict.fromkeys(
        ("brightness", "contrast", "sharpness"), (90,)
    )
    again = finish(tasks.measures(str(station.folder)))
    assert all(np.array_equal(first.arrays[name], again.arrays[name]) for name in first.arrays)
    row = collection(station, Plan()).rows[10]
    file = station.folder / row.file
    with Image.open(file) as picture:
        dark = picture.convert("RGB").point(lambda v: v // 3).resize((16, 16)).resize((64, 64))
    dark.save(file)
    after = finish(tasks.measures(str(station.folder)))
    assert after.arrays["brightness"][10] == pytest.approx(first.arrays["brightness"][10] / 3, abs=0.02)
    assert after.arrays["sharpness"][10] < 0.7 * first.arrays["sharpness"][10]


def test_class_means_are_the_means_of_the_training_images(station: Workspace) -> None:
    found = finish(tasks.class_means(str(station.folder))).arrays
    told = collection(station, Plan())
    pixels = np.load(finish(tasks.prepare(str(station.folder))).values["file"])
    own = [k for k, row in enumerate(told.rows) if row.label == 2 and told.sets[k] == "training"]
    assert np.abs(found["mean"][2] - pixels[own].mean(axis=0)).max() <= 1
    assert np.abs(found["deviation"][2] / 2 - pixels[own].std(axis=0)).max() <= 1


@pytest.mark.parametrize("colour", ["colour", "grey", "luma-chroma"])
@pytest.mark.parametrize("level", ["scale and centre", "local contrast"])
def test_fits_show_each_choice_and_a_batch_with_mean_0_and_deviation_1(
    station: Workspace, colour: str, level: str
) -> None:
    plan = Plan().changed({"preparation.side": 24, "preparation.colour": colour, "preparation.level": level})
    found = finish(tasks.fits(str(station.folder), plan.write(), 5))
    assert {name: array.shape for name, array in found.arrays.items()} == dict.fromkeys(
        ("stretch", "border", "crop", "network"), (5, *plan.preparation.shape)
    )
    assert found.values["mean"] == pytest.approx([0] * plan.preparation.shape[2], abs=0.25)
    assert found.values["deviation"] == pytest.approx([1] * plan.preparation.shape[2], abs=0.25)


def test_a_picture_comes_as_its_file_has_it_and_smaller_if_it_is_vast(station: Workspace) -> None:
    row = collection(station, Plan()).rows[0]
    Image.new("RGB", (5000, 40), (9, 8, 7)).save(station.folder / row.file)
    found = finish(tasks.picture(str(station.folder), 1))
    assert found.values["step"] == 3
    assert found.arrays["pixels"].shape == (14, 1667, 3)
    assert finish(tasks.picture(str(station.folder), 2)).arrays["pixels"].shape == (64, 64, 3)
    with pytest.raises(NotHere, match="numbered 1 to 90"):
        finish(tasks.picture(str(station.folder), 91))


def test_a_preview_shows_every_way_a_source_can_be_read(station: Workspace, tmp_path: Path) -> None:
    found = finish(tasks.preview(str(station.folder / "images"), {}))
    assert found.values["kind"] == "folders"
    (way,) = found.values["ways"]
    assert way["images"] == 94
    assert sum(way["classes"].values()) == 94
    assert found.arrays["reading 0"].shape == (10, 64, 64, 3)
    images = np.random.default_rng(0).integers(0, 255, (20, 3, 9, 3)).astype(np.uint8)
    np.savez(tmp_path / "a.npz", images=images, labels=np.arange(20) % 2)
    found = finish(tasks.preview(str(tmp_path / "a.npz"), {}))
    assert [way["reading"]["layout"] for way in found.values["ways"]] == ["NHWC", "NCHW"]
    assert not np.array_equal(found.arrays["reading 0"], found.arrays["reading 1"])
    pixels = np.load(finish(tasks.prepare(str(station.folder))).values["file"])[:20]
    np.savez(tmp_path / "b.npz", images=pixels.transpose(0, 3, 1, 2).reshape(20, -1), labels=np.arange(20) % 2)
    found = finish(tasks.preview(str(tmp_path / "b.npz"), {})).values
    assert found["ways"][found["likeliest"]]["reading"]["order"] == "CHW"
    with pytest.raises(LensError, match="no such file"):
        finish(tasks.preview(str(tmp_path / "none"), {}))


def test_planted_copies_are_found_their_fix_excludes_them_and_a_split_keeps_them_together(tmp_path: Path) -> None:
    workspace = finish(make_demo(tmp_path / "station", 240, 5)).workspace
    rows, _ = read_key(tmp_path / "station")
    planted = {(r.file, f[8:]) for r in rows for f in r.faults if f.startswith("copy of ")}
    found = finish(tasks.faults(str(workspace.folder))).values["findings"]
    (leak,) = [f for f in found if f["kind"] == "leak"]
    told = collection(workspace, Plan())
    files = {row.number: row.file.removeprefix("images/") for row in told.rows}
    assert {tuple(sorted(files[n] for n in group)) for group in leak["groups"]} == {tuple(sorted(p)) for p in planted}
    assert set(workspace.catalogue.copies()) == set(leak["images"])
    act(Curating(workspace), leak["actions"][0])
    after = collection(workspace, Plan())
    out = {files[k + 1] for k, name in enumerate(after.sets) if name == "excluded"}
    assert out == {training for _, training in planted}
    again = finish(tasks.faults(str(workspace.folder))).values["findings"]
    assert not [f for f in again if f["kind"] == "leak"]


def test_runs_that_take_turns_doubt_a_label_that_is_wrong(station: Workspace) -> None:
    for fold in (1, 2):
        plan = small_plan().changed({"split.folds": 2, "split.fold": fold})
        finish(execute(station, station.claim_run(plan), lambda: False))
    kinds = [f["kind"] for f in finish(tasks.faults(str(station.folder))).values["findings"]]
    assert set(kinds) <= {
        "leak",
        "duplicate",
        "contradiction",
        "mark",
        "out of focus",
        "rare class",
        "small class",
        "doubtful label",
    }
    noted = [run.images() for run in station.runs()[1:]]
    held = [{k for k, name in enumerate(n[1]) if name == "validation"} for n in noted if n is not None]
    assert not held[0] & held[1]


def test_excluded_images_take_no_part(station: Workspace) -> None:
    label = collection(station, Plan()).rows[0].label
    own = [row.number for row in collection(station, Plan()).rows if row.label == label]
    Curating(station).change("exclude", own, moved("excluded"))
    findings = finish(tasks.faults(str(station.folder))).values["findings"]
    assert not set(own) & {n for f in findings for n in f["images"]}
