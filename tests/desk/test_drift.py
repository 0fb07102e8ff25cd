"""Images beside a run's held-out ones: what is the same, what is changed, days that are kept, the command, Python."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.answering import answer
from tests.cli.running import command, last_object

import attentive_lens
from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.drift import BY_DAY, BY_FOLDER, TOGETHER, MeasureDrift
from attentive_lens.desk.requests.models import AnswerNew
from attentive_lens.desk.results.answering import Answering
from attentive_lens.desk.results.beside_model import beside, familiar_to, held_out_to
from attentive_lens.desk.results.drift import FEWEST, DriftByDay, HeldOut, held_out
from attentive_lens.desk.results.models import model_and_data, model_of
from attentive_lens.errors import BadFile, NotHere
from attentive_lens.explaining import drift_measures
from attentive_lens.explaining.drift_measures import FEATURES, OF_PICTURES
from attentive_lens.images.ahead import Opened
from attentive_lens.scoring import drift
from attentive_lens.workspace import Workspace


@pytest.fixture(scope="module")
def place(large_station_once: Path) -> Workspace:
    return Workspace.open(large_station_once)


@pytest.fixture(scope="module")
def usual(place: Workspace) -> HeldOut:
    return finish(held_out(place, place.run(1)))


@pytest.fixture(scope="module")
def pixels(place: Workspace) -> np.ndarray:
    """The validation images at the input size."""
    _, data = finish(model_and_data(place, place.run(1)))
    return np.asarray(data.pixels[data.members("validation")])


@pytest.fixture(scope="module")
def folders(place: Workspace, pixels: np.ndarray, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The validation images as files: as they are, and darker; written on two days."""
    root = tmp_path_factory.mktemp("new images")
    for k, (name, factor) in enumerate((("as they are", 1.0), ("darker", 0.6))):
        (root / name).mkdir()
        for number, image in enumerate(pixels):
            file = root / name / f"{number}.png"
            Image.fromarray((image * factor).astype(np.uint8)).save(file)
            os.utime(file, (1_700_000_000 + k * 86_400,) * 2)
    return root


def counted(usual: HeldOut, place: Workspace, pixels: np.ndarray) -> DriftByDay:
    days = DriftByDay(usual)
    answering = Answering(model_of(place.run(1).model), None, None, days)
    answering.answer([Opened(str(k), image) for k, image in enumerate(pixels)], "a day")
    return days


def test_held_out_images_look_as_they_do_and_changed_ones_do_not(
    place: Workspace, usual: HeldOut, pixels: np.ndarray
) -> None:
    assert usual.measures.names[: len(OF_PICTURES)] == OF_PICTURES
    assert usual.measures.names[-1] == f"feature {FEATURES}"
    same = counted(usual, place, pixels).days()[0]
    assert all(shift.distance == pytest.approx(0, abs=1e-9) for shift in same.shifts)
    assert (same.differs, same.mix) == (False, 0.0)
    dark = counted(usual, place, (pixels * 0.6).astype(np.uint8)).days()[0]
    assert dark.differs
    brightness = next(shift for shift in dark.shifts if shift.measure == "brightness")
    assert (brightness.differs, brightness.words) == (True, "are darker than usual")
    assert brightness.deviations < -1
    blurred = np.stack([np.asarray(Image.fromarray(x).resize((16, 16)).resize((32, 32))) for x in pixels])
    soft = next(s for s in counted(usual, place, blurred).days()[0].shifts if s.measure == "focus")
    assert (soft.differs, soft.words) == (True, "are softer than usual")


def test_an_answer_is_the_same_whether_it_is_counted_or_not(
    place: Workspace, usual: HeldOut, pixels: np.ndarray
) -> None:
    model = model_of(place.run(1).model)
    read = [Opened(str(k), image) for k, image in enumerate(pixels[:9])]
    days = DriftByDay(usual)
    assert Answering(model, None).answer(read) == Answering(model, None, None, days).answer(read, "a day")
    assert days.counts["a day"].images == 9
    Answering(model, None, None, days).answer(read)
    assert (list(days.counts), days.counts["a day"].images) == (["a day"], 9), "of no day, so not counted"


def test_the_network_s_features_are_called_alike_where_they_are_measured_and_where_they_are_told() -> None:
    assert drift_measures.FEATURE == drift.FEATURE


def test_what_is_usual_is_worked_out_once(place: Workspace, usual: HeldOut, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("attentive_lens.desk.results.drift._looked", lambda *_: pytest.fail("it is there already"))
    again = finish(held_out_to(place.run(1).model))
    assert np.array_equal(again.reference.values, usual.reference.values)
    assert again.key == usual.key


def test_days_are_gone_on_with_and_those_of_another_model_are_not(
    place: Workspace, usual: HeldOut, pixels: np.ndarray, tmp_path: Path
) -> None:
    file = tmp_path / "days.json"
    days = counted(usual, place, pixels)
    days.file = file
    days.keep()
    again = DriftByDay(usual, file)
    assert again.days() == days.days()
    table = json.loads(file.read_text("utf-8"))
    shapes = {**table, "days": {"a day": {**table["days"]["a day"], "bins": [[1]]}}}
    for text in ("", "[]", "no JSON", json.dumps({**table, "model": "another"}), json.dumps(shapes)):
        file.write_text(text, "utf-8")
        with pytest.raises(BadFile, match="not gone on with"):
            DriftByDay(usual, file)
        assert file.read_text("utf-8") == text
    days.file = tmp_path / "nowhere" / "days.json"
    with pytest.raises(BadFile, match="could not be written"):
        days.keep()


def test_by_day_by_folder_and_together(place: Workspace, folders: Path, tmp_path: Path) -> None:
    (folders / "darker" / "words.png").write_text("no picture", "utf-8")
    request = MeasureDrift(str(place.folder), 1, (str(folders),))
    outcome = {by: answer(MeasureDrift(**{**vars(request), "by": by})) for by in (BY_DAY, BY_FOLDER, TOGETHER)}
    assert [part.name for part in outcome[BY_DAY].parts] == ["2023-11-14", "2023-11-15"]
    assert [part.name for part in outcome[BY_FOLDER].parts] == [str(folders / "as they are"), str(folders / "darker")]
    for by in (BY_DAY, BY_FOLDER):
        assert [part.differs for part in outcome[by].parts] == [False, True]
        assert [part.images for part in outcome[by].parts] == [outcome[by].held_out] * 2
    assert [part.images for part in outcome[TOGETHER].parts] == [2 * outcome[TOGETHER].held_out]
    assert {each.unreadable for each in outcome.values()} == {1}
    for kind in (".svg", ".png", ".pdf"):
        chart = tmp_path / f"chart{kind}"
        words = command("drift", place.folder, 1, folders, "--by", "folder", "--out", chart)
        assert chart.stat().st_size > 1000
        assert "darker than usual" in words
    assert ">darker (" in (tmp_path / "chart.svg").read_text("utf-8"), "without the folders that all are in"
    run = attentive_lens.open_workspace(place.folder).runs()[0]
    assert run.drift(folders, by="folder") == outcome[BY_FOLDER].parts


def test_what_cannot_be_measured_is_a_sentence(place: Workspace, station: Workspace, tmp_path: Path) -> None:
    (tmp_path / "empty").mkdir()
    (tmp_path / "words.png").write_text("no picture", "utf-8")
    for words, code, why in (
        ([], 2, "no image is named"),
        ([tmp_path / "empty"], 1, "no file in it ends like one"),
        ([tmp_path / "nowhere"], 1, "there is no such file"),
        ([tmp_path / "words.png"], 1, "none of the files could be read"),
        ([place.folder / "images", "--out", tmp_path / "chart.gif"], 2, "none of the words"),
        ([place.folder / "images", "--by", "week"], 2, "week"),
    ):
        said = last_object(command("drift", place.folder, 1, *words, "--json", code=code))["error"]
        assert why in " ".join(said.values())
    assert not list(tmp_path.glob("chart*"))
    few = last_object(command("drift", station.folder, 1, station.folder / "images", "--json", code=1))["error"]
    assert f"{FEWEST} are needed" in few["why"]
    shutil.copy(place.run(1).model, tmp_path / "away.alens")
    for of_file in (held_out_to, familiar_to):
        with pytest.raises(NotHere, match="does not lie in its workspace"):
            finish(of_file(tmp_path / "away.alens"))


def test_an_exported_model_takes_along_what_its_images_are_like(
    place: Workspace, usual: HeldOut, station: Workspace, pixels: np.ndarray, tmp_path: Path
) -> None:
    away = tmp_path / "a model.v2.alens"
    written = last_object(command("export", place.folder, 1, "--out", away, "--json"))
    assert written["held_out"] == str(beside(away)) == str(tmp_path / "a model.v2.held-out.npz")
    again = finish(held_out_to(away))
    one, other = (counted(known, place, pixels // 2).days()[0] for known in (usual, again))
    assert one == other
    assert np.array_equal(finish(familiar_to(away)).known.rows, usual.familiar.known.rows)
    said = json.loads(command("predict", away, place.path_of(place.catalogue.images()[0]), "--unlike", "--json"))
    assert said["unlike"] is not None
    command("watch-folder", away, place.folder / "images", "--once", "--drift", tmp_path / "days.json", "--out",
            tmp_path / "all.csv", "--json")  # fmt: skip
    (day,) = json.loads((tmp_path / "days.json").read_text("utf-8"))["days"].values()
    assert day["images"] > FEWEST
    half = last_object(command("export", place.folder, 1, "--half", "--out", tmp_path / "half.alens", "--json"))
    shutil.copy(half["held_out"], beside(away))
    beside(tmp_path / "half.alens").write_bytes(b"damaged")
    for file in (away, tmp_path / "half.alens"):
        with pytest.raises(NotHere, match="belongs to another model, or is damaged"):
            finish(held_out_to(file))
    few = last_object(command("export", station.folder, 1, "--out", tmp_path / "few.alens", "--json"))
    assert (few["held_out"], beside(tmp_path / "few.alens").exists()) == ("", False)


def test_new_images_are_told_beside_held_out_ones(place: Workspace, station: Workspace, folders: Path) -> None:
    result = answer(AnswerNew(str(place.folder), 1, (str(folders / "darker"),)))
    assert result.drift is not None
    assert (result.drift.differs, result.drift.images) == (True, len(result.answers))
    few = answer(AnswerNew(str(station.folder), 1, (str(folders / "darker"),)))
    assert few.drift is None
    assert len(few.answers) == len(result.answers)
