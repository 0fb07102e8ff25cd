"""Tasks of the Images stage, and what is done about findings."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.answering import answer
from tests.conftest import small_plan

from attentive_lens.core.jobs import finish
from attentive_lens.demo.station import read_key
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.images.curating import Curating, act, moved
from attentive_lens.desk.making import make_demo
from attentive_lens.desk.requests.images import (
    ClassAverages,
    FindFaults,
    Measure,
    OpenPicture,
    Prepare,
    Preview,
    ResizeModes,
)
from attentive_lens.desk.training.executing import execute
from attentive_lens.errors import LensError, NotHere
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace


def test_measures_tell_bright_from_dark_and_sharp_from_blurred(station: Workspace) -> None:
    request = Measure(str(station.folder))
    first = answer(request)
    names = ("brightness", "contrast", "sharpness")
    assert {getattr(first, name).shape for name in names} == {(90,)}
    again = answer(request)
    assert all(np.array_equal(getattr(first, name), getattr(again, name)) for name in names)
    row = collection(station, Plan()).rows[10]
    file = station.folder / row.file
    with Image.open(file) as picture:
        dark = picture.convert("RGB").point(lambda v: v // 3).resize((16, 16)).resize((64, 64))
    dark.save(file)
    after = answer(request)
    assert after.brightness[10] == pytest.approx(first.brightness[10] / 3, abs=0.02)
    assert after.sharpness[10] < 0.7 * first.sharpness[10]


def test_images_are_measured_where_nothing_can_be_written(station: Workspace, monkeypatch: pytest.MonkeyPatch) -> None:
    expected = answer(Measure(str(station.folder)))
    for file in station.cache.glob("measures*"):
        file.unlink()
    real = Path.open

    def refuse(self: Path, mode: str = "r", *args: object, **options: object) -> object:
        if "w" in mode or "a" in mode:
            raise OSError(30, "Read-only file system")
        return real(self, mode, *args, **options)  # type: ignore[arg-type]

    monkeypatch.setattr(Path, "open", refuse)
    assert np.array_equal(answer(Measure(str(station.folder))).sharpness, expected.sharpness)
    assert not list(station.cache.glob("*measures*"))


def test_class_averages_are_those_of_the_training_images(station: Workspace) -> None:
    result = answer(ClassAverages(str(station.folder)))
    summary = collection(station, Plan())
    pixels = prepared_pixels(station)
    own = [k for k, row in enumerate(summary.rows) if row.label == 2 and summary.sets[k] == "training"]
    assert np.abs(result.mean[2] - pixels[own].mean(axis=0)).max() <= 1
    assert np.abs(result.std[2] / 2 - pixels[own].std(axis=0)).max() <= 1


def prepared_pixels(place: Workspace) -> np.ndarray:
    file = answer(Prepare(str(place.folder))).file
    assert file is not None
    return np.load(file)


@pytest.mark.parametrize("colour", ["RGB", "grey", "luma-chroma"])
@pytest.mark.parametrize("normalisation", ["standardise", "local contrast"])
def test_resize_modes_are_shown_with_a_batch_of_mean_0_and_deviation_1(
    station: Workspace, colour: str, normalisation: str
) -> None:
    settings = {"input_size": 24, "colour_space": colour, "normalisation": normalisation}
    plan = Plan().changed({f"preprocessing.{key}": value for key, value in settings.items()})
    result = answer(ResizeModes(str(station.folder), plan.write(), 5))
    shape = (5, *plan.preprocessing.shape)
    assert {mode: array.shape for mode, array in result.modes.items()} == dict.fromkeys(
        ("stretch", "letterbox", "centre crop", "none"), shape
    )
    assert result.network.shape == shape
    assert not result.caution
    plan = plan.changed({"preprocessing.resize_mode": "none"})
    assert "at their own scale" in answer(ResizeModes(str(station.folder), plan.write(), 5)).caution
    assert result.mean == pytest.approx([0] * plan.preprocessing.channels, abs=0.25)
    assert result.std == pytest.approx([1] * plan.preprocessing.channels, abs=0.25)


def test_a_picture_comes_as_its_file_has_it_and_smaller_if_it_is_vast(station: Workspace) -> None:
    row = collection(station, Plan()).rows[0]
    Image.new("RGB", (5000, 40), (9, 8, 7)).save(station.folder / row.file)
    result = answer(OpenPicture(str(station.folder), 1))
    assert result.step == 3
    assert result.pixels.shape == (14, 1667, 3)
    assert answer(OpenPicture(str(station.folder), 2)).pixels.shape == (64, 64, 3)
    with pytest.raises(NotHere, match="numbered 1 to 90"):
        answer(OpenPicture(str(station.folder), 91))


def test_a_preview_shows_every_way_a_source_can_be_read(station: Workspace, tmp_path: Path) -> None:
    result = answer(Preview(str(station.folder / "images"), {}))
    assert result.kind == "folders"
    (way,) = result.ways
    assert way.images == 94
    assert sum(way.classes.values()) == 94
    assert way.pixels.shape == (10, 64, 64, 3)
    images = np.random.default_rng(0).integers(0, 255, (20, 3, 9, 3)).astype(np.uint8)
    np.savez(tmp_path / "a.npz", images=images, labels=np.arange(20) % 2)
    result = answer(Preview(str(tmp_path / "a.npz"), {}))
    assert [way.reading["layout"] for way in result.ways] == ["NHWC", "NCHW"]
    assert not np.array_equal(result.ways[0].pixels, result.ways[1].pixels)
    pixels = prepared_pixels(station)[:20]
    np.savez(tmp_path / "b.npz", images=pixels.transpose(0, 3, 1, 2).reshape(20, -1), labels=np.arange(20) % 2)
    result = answer(Preview(str(tmp_path / "b.npz"), {}))
    assert result.ways[result.likeliest].reading["order"] == "CHW"
    with pytest.raises(LensError, match="no such file"):
        answer(Preview(str(tmp_path / "none"), {}))


def test_planted_copies_are_found_and_their_fix_excludes_them(tmp_path: Path) -> None:
    workspace = finish(make_demo(tmp_path / "station", 240, 5)).workspace
    rows, _ = read_key(tmp_path / "station")
    planted = {(r.file, f[8:]) for r in rows for f in r.faults if f.startswith("copy of ")}
    result = answer(FindFaults(str(workspace.folder))).faults
    (leak,) = [f for f in result if f.kind == "leak"]
    summary = collection(workspace, Plan())
    files = {row.number: row.file.removeprefix("images/") for row in summary.rows}
    assert {tuple(sorted(files[n] for n in group)) for group in leak.groups} == {tuple(sorted(p)) for p in planted}
    assert not workspace.catalogue.copies(), "looking changes nothing"
    assert collection(workspace, Plan()).sets == summary.sets
    act(Curating(workspace), leak.actions[0])
    after = collection(workspace, Plan())
    out = {files[k + 1] for k, name in enumerate(after.sets) if name == "excluded"}
    assert out == {training for _, training in planted}
    again = answer(FindFaults(str(workspace.folder))).faults
    assert not [f for f in again if f.kind == "leak"]


def test_runs_that_take_turns_doubt_a_label_that_is_wrong(station: Workspace) -> None:
    for fold in (1, 2):
        plan = small_plan().changed({"split.folds": 2, "split.validation_fold": fold})
        finish(execute(station, station.claim_run(plan), lambda: False))
    kinds = [f.kind for f in answer(FindFaults(str(station.folder))).faults]
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
    findings = answer(FindFaults(str(station.folder))).faults
    assert not set(own) & {n for f in findings for n in f.images}
