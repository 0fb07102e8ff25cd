"""`watch-folder`: images are answered as they appear, each answer beside its image; ended and begun at any time."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.cli.running import command, last_object

from attentive_lens.desk.map_colours import over_image
from attentive_lens.desk.results.answering import Answering
from attentive_lens.desk.results.appearing import ANSWER, MAP, SETTLED, Appearing, answers_as_they_come, write_beside
from attentive_lens.desk.results.models import model_of
from attentive_lens.desk.tasks import explaining
from attentive_lens.desk.tasks.explaining import class_map
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.explaining.saliency import MapMethod, map_method
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.workspace import Workspace

OLD = 1_700_000_000


def put(place: Workspace, into: Path, count: int, first: int = 0, old: bool = True) -> list[Path]:
    """Images of the station in a folder, as if they had been there for long."""
    into.mkdir(parents=True, exist_ok=True)
    files = []
    for row in place.catalogue.images()[first : first + count]:
        file = into / f"{row.number}.png"
        shutil.copyfile(place.path_of(row), file)
        if old:
            os.utime(file, (OLD, OLD))
        files.append(file)
    return files


def saved(file: Path) -> dict[str, object]:
    """What stands beside an image."""
    entry: dict[str, object] = json.loads(Path(f"{file}{ANSWER}").read_text("utf-8"))
    return entry


def test_each_answer_stands_beside_its_image_and_is_what_predict_says(station: Workspace, tmp_path: Path) -> None:
    model, inbox = station.run(1).model, tmp_path / "in box"
    files = put(station, inbox, 3) + put(station, inbox / "inner", 2, 3)
    (inbox / "words.txt").write_text("no image", "utf-8")
    (inbox / ".being copied.png").write_bytes(b"half")
    (inbox / "torn.png").write_bytes(files[0].read_bytes()[:300])
    os.utime(inbox / "torn.png", (OLD, OLD))
    command("watch-folder", model, inbox, "--once", "--maps", "--json")
    said = {e["file"]: e for e in map(json.loads, command("predict", model, *files, "--json").splitlines())}
    read, method = model_of(model), map_method("integrated_gradients")
    for file in files:
        assert saved(file) == {**said[str(file)], "file": file.name, "model": model.name}
        pixels = read.preprocessor.opened(file)
        drawn = np.asarray(Image.open(f"{file}{MAP}"))
        assert np.array_equal(drawn, over_image(pixels, class_map(read, pixels, method)))
    assert "cut off or damaged" in str(saved(inbox / "torn.png")["error"])
    assert len(list(inbox.rglob("*"))) == 1 + 3 * len(files) + 2 + 2, "and nothing else"
    assert command("watch-folder", model, inbox, "--once") == "", "nothing is asked again"
    os.utime(files[1], (OLD + 10**9,) * 2)
    put(station, inbox, 1, 8)
    again = command("watch-folder", model, inbox, "--once")
    said_again = sorted(line.split(":")[0] for line in again.splitlines())
    assert said_again == [str(files[1]), str(inbox / "9.png")], "one is of tomorrow, and waited for"
    assert command("watch-folder", model, inbox, "--once") == "", "though it is later than its answer"


def test_an_image_without_a_map_holds_up_no_other(
    station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    inbox = tmp_path / "inbox"
    first, second, third = put(station, inbox, 3)
    drawing = explaining.class_map

    def drawn(model: ModelFile, pixels: np.ndarray, method: MapMethod) -> np.ndarray:
        if np.array_equal(pixels, model.preprocessor.opened(second)):
            raise BadValue("It gives no map", "some of its values are no numbers", "Choose another method")
        assert not first.with_name(first.name + ANSWER).exists() or first.with_name(first.name + MAP).exists()
        return drawing(model, pixels, method)

    monkeypatch.setattr(explaining, "class_map", drawn)
    command("watch-folder", station.run(1).model, inbox, "--once", "--maps")
    assert [Path(f"{file}{MAP}").exists() for file in (first, second, third)] == [True, False, True]
    assert all("predicted" in saved(file) for file in (first, second, third))


def test_one_file_for_all_is_gone_on_with(station: Workspace, tmp_path: Path) -> None:
    model, inbox = station.run(1).model, tmp_path / "inbox"
    put(station, inbox, 4)
    for kind in (".csv", ".jsonl"):
        into = tmp_path / f"answers{kind}"
        assert len(command("watch-folder", model, inbox, "--once", "--out", into).splitlines()) == 4
        assert command("watch-folder", model, inbox, "--once", "--out", into) == ""
        (extra,) = put(station, inbox, 1, 6)
        assert command("watch-folder", model, inbox, "--once", "--out", into).startswith(f"{extra}: ")
        extra.unlink()
        assert len(into.read_text("utf-8").splitlines()) == 5 + (kind == ".csv")
    assert not list(inbox.glob(f"*{ANSWER}"))


def test_what_is_still_written_is_waited_for(station: Workspace, tmp_path: Path) -> None:
    (file,) = put(station, tmp_path / "inbox", 1, old=False)
    content = file.read_bytes()
    answering = Answering(model_of(station.run(1).model), None)
    appearing = Appearing(tmp_path / "inbox")
    file.write_bytes(content[:100])
    assert (appearing.scan(), appearing.waits) == ([], True)
    file.write_bytes(content)
    assert (appearing.scan(), appearing.waits) == ([], True), "it grew"
    assert (appearing.scan(), appearing.waits) == ([str(file)], False), "it did not"
    os.utime(file, (time.time() + 10 * SETTLED,) * 2)
    assert Appearing(tmp_path / "inbox").scan() == [], "a clock that is ahead makes it no older"
    again = Appearing(tmp_path / "inbox")
    for batch in answers_as_they_come(answering, again, 0.01, once=True):
        for answer in batch:
            assert "predicted" in vars(answer)
            write_beside(answer, "a model", again.changed[answer.file])
    assert saved(file)["model"] == "a model"


def test_a_folder_that_goes_is_waited_for_and_one_that_was_never_there_is_said(
    station: Workspace, tmp_path: Path
) -> None:
    answering, inbox = Answering(model_of(station.run(1).model), None), tmp_path / "inbox"
    with pytest.raises(BadFile, match="could not be looked through"):
        next(answers_as_they_come(answering, Appearing(inbox), 0.01))
    inbox.mkdir()
    coming = answers_as_they_come(answering, Appearing(inbox), 0.01)
    assert next(coming) == []
    inbox.rmdir()
    assert next(coming) == []
    put(station, inbox, 2)
    assert len(next(coming)) == 2
    coming.close()


def test_images_are_answered_while_they_appear(large_station_once: Path, tmp_path: Path) -> None:
    place, inbox, days = Workspace.open(large_station_once), tmp_path / "inbox", tmp_path / "days.json"
    inbox.mkdir()
    words = ["watch-folder", place.run(1).model, inbox, "--every", "0.1", "--drift", days]
    watching = subprocess.Popen(
        [sys.executable, "-m", "attentive_lens", *map(str, words)],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    assert watching.stdout is not None
    try:
        for number in range(3):
            (file,) = put(place, inbox, 1, number, old=False)
            assert watching.stdout.readline().startswith(f"{file}: ")
            assert saved(file)["file"] == file.name
        for row in place.catalogue.images()[3:43]:
            dark = Image.open(place.path_of(row)).convert("RGB").point(lambda value: value // 4)
            dark.save(inbox / f"{row.number} dark.png")
        lines = [watching.stdout.readline()]
        while not lines[-1].startswith("20"):
            lines.append(watching.stdout.readline())
        assert "than usual" in lines[-1]
        while len(list(inbox.glob(f"*{ANSWER}"))) < 43:
            time.sleep(0.05)
    finally:
        watching.send_signal(signal.SIGINT)
        _, said = watching.communicate(timeout=60)
    assert "Traceback" not in said
    (day,) = json.loads(days.read_text("utf-8"))["days"].values()
    assert day["images"] == 43
    assert "<svg" in days.with_suffix(".svg").read_text("utf-8")


def test_what_cannot_be_watched_or_written_is_a_sentence(station: Workspace, tmp_path: Path) -> None:
    model, inbox = station.run(1).model, tmp_path / "inbox"
    (file,) = put(station, inbox, 1)
    for words, code, why in (
        ([tmp_path / "nowhere"], 1, "there is no such folder"),
        ([file], 1, "there is no such folder"),
        ([inbox, "--out", tmp_path / "a.parquet"], 2, "whole only at its end"),
        ([inbox, "--out", tmp_path / "a.gif"], 2, "«.gif»"),
        ([inbox, "--drift", tmp_path / "nowhere" / "days.json"], 1, "there is no folder"),
        ([inbox, "--drift", tmp_path / "days.json"], 1, "validation images"),
        ([inbox, "--method", "nothing"], 2, "«nothing»"),
        ([inbox, "--method", 'integrated_gradients baseline="image 3"'], 2, "image 3 of a workspace"),
    ):
        said = last_object(command("watch-folder", model, *words, "--once", "--json", code=code))["error"]
        assert why in " ".join(said.values())
    file.with_name(file.name + ANSWER).mkdir()
    os.utime(f"{file}{ANSWER}", (OLD - 1, OLD - 1))
    said = last_object(command("watch-folder", model, inbox, "--once", "--json", code=1))["error"]
    assert "is a directory" in said["why"]
    assert "--out" in said["remedy"]
