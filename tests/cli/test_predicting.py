"""`predict`: folders of any size, answers written while they come and gone on with, strange images told."""

from __future__ import annotations

import csv
import json
import shutil
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from pyarrow import parquet
from tests.cli.running import command, last_object

from attentive_lens.core.helpers import MOST as MOST_HELPERS
from attentive_lens.core.helpers import SPARE
from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.models import Prediction, Unreadable
from attentive_lens.desk.results import answer_files
from attentive_lens.desk.results.answer_files import COLUMNS, AnswerFile, class_columns
from attentive_lens.desk.results.answering import answers_to, image_files
from attentive_lens.desk.results.familiar import MOST, familiar
from attentive_lens.desk.results.models import model_of
from attentive_lens.errors import BadFile
from attentive_lens.images.ahead import BATCH
from attentive_lens.workspace import Workspace


def rows_of(file: Path) -> list[dict[str, str]]:
    with file.open(newline="", encoding="utf-8") as stream:
        return list(csv.DictReader(stream))


def test_a_table_an_object_a_line_and_parquet_say_the_same(station: Workspace, tmp_path: Path) -> None:
    model, source = station.run(1).model, station.folder / "images"
    mistyped = last_object(command("predict", model, source, "--out", tmp_path / "deep" / "a.csv", "--json", code=1))
    assert "there is no folder" in mistyped["error"]["why"]
    assert not (tmp_path / "deep").exists()
    (tmp_path / "deep").mkdir()
    files = {kind: tmp_path / "deep" / f"answers{kind}" for kind in (".csv", ".jsonl", ".parquet")}
    result = {kind: last_object(command("predict", model, source, "--out", f, "--json")) for kind, f in files.items()}
    printed = [json.loads(line) for line in command("predict", model, source, "--json").splitlines()]
    answered = [entry for entry in printed if "error" not in entry]
    for each in result.values():
        assert (each["answered"], each["held"], each["unlike"]) == (len(answered), 0, None)
        assert each["unreadable"] == len(printed) - len(answered) > 0
        assert sum(each["predicted"].values()) == len(answered)
    table, lines = rows_of(files[".csv"]), [json.loads(x) for x in files[".jsonl"].read_text("utf-8").splitlines()]
    columns = parquet.read_table(files[".parquet"]).to_pylist()
    assert [x["file"] for x in table] == [x["file"] for x in lines] == [x["file"] for x in columns]
    assert [x["file"] for x in table] == [x["file"] for x in printed]
    for row, line, column, entry in zip(table, lines, columns, printed, strict=True):
        if "error" in entry:
            assert row["error"] == line["error"] == column["error"] == entry["error"]
            assert column["predicted"] is None
            continue
        assert row["predicted"] == line["predicted"] == column["predicted"] == entry["predicted"]
        for name, value in entry["probabilities"].items():
            same = pytest.approx(value, abs=1e-6)
            assert (float(row[name]), line["probabilities"][name], column[name]) == (same, same, same)
    assert [f.name for f in (tmp_path / "deep").iterdir() if f.name.startswith(".")] == []


@pytest.mark.parametrize("kind", [".csv", ".jsonl", ".parquet"])
def test_a_file_that_broke_off_is_gone_on_with(station: Workspace, tmp_path: Path, kind: str) -> None:
    model, source = station.run(1).model, station.folder / "images"
    whole, broken = tmp_path / f"whole{kind}", tmp_path / f"broken{kind}"
    every = last_object(command("predict", model, source, "--out", whole, "--json"))
    read = model_of(model)
    into = AnswerFile(broken, read.classes)
    names = list(image_files([source]))
    for batch in answers_to(read, names[:20]):
        into.write(batch)
    into.close()
    with into.lines.open("ab") as stream:
        stream.write(b'{"file": "half' if kind != ".csv" else b"half,of a")
    refused = last_object(command("predict", model, source, "--out", broken, "--json", code=2))
    assert "--resume" in refused["error"]["remedy"]
    result = last_object(command("predict", model, source, "--out", broken, "--resume", "--json"))
    assert result["held"] == 20
    assert result["answered"] + result["unreadable"] == len(names) - 20
    assert every["answered"] + every["unreadable"] == len(names)
    if kind == ".parquet":
        assert parquet.read_table(broken).equals(parquet.read_table(whole))
    else:
        assert broken.read_bytes() == whole.read_bytes()


def test_a_parquet_file_that_is_whole_is_gone_on_with_when_there_is_more(station: Workspace, tmp_path: Path) -> None:
    model, source, file = station.run(1).model, station.folder / "images", tmp_path / "answers.parquet"
    names = list(image_files([source]))
    into = AnswerFile(file, model_of(model).classes)
    for batch in answers_to(model_of(model), names[:30]):
        into.write(batch)
    into.finish()
    result = last_object(command("predict", model, source, "--out", file, "--resume", "--json"))
    assert (result["held"], result["answered"] + result["unreadable"]) == (30, len(names) - 30)
    command("predict", model, source, "--out", tmp_path / "whole.parquet")
    assert parquet.read_table(file).equals(parquet.read_table(tmp_path / "whole.parquet"))
    before = file.read_bytes()
    result = last_object(command("predict", model, source, "--out", file, "--resume", "--json"))
    assert (result["held"], result["answered"], result["unreadable"]) == (len(names), 0, 0)
    assert file.read_bytes() == before
    assert [each.name for each in tmp_path.iterdir() if each.name.startswith(".")] == []


@pytest.mark.parametrize("kind", [".csv", ".jsonl", ".parquet"])
def test_classes_called_as_a_column_is_have_one_of_their_own(tmp_path: Path, kind: str) -> None:
    classes = ["file", "predicted", "error", "probability", "class file", "spiny"]
    sure = {name: (k + 1) / 21 for k, name in enumerate(classes)}
    file = tmp_path / f"answers{kind}"
    for part in (0, 1):
        into = AnswerFile(file, classes, resume=bool(part))
        into.write(
            [
                Prediction(f"{part}.png", "error", sure["error"], sure, "softmax"),
                Unreadable(f"{part}-bad.png", "cut off"),
            ]
        )
        into.close() if kind != ".parquet" else into.finish()
    heads = class_columns(COLUMNS, classes)
    assert len({*COLUMNS, *heads}) == len(COLUMNS) + len(classes)
    assert heads[-1] == "spiny"
    if kind == ".jsonl":
        rows = [json.loads(line) for line in file.read_text("utf-8").splitlines()]
        assert [list(row["probabilities"].values()) for row in rows[::2]] == [pytest.approx(list(sure.values()))] * 2
        return
    rows = rows_of(file) if kind == ".csv" else parquet.read_table(file).to_pylist()
    assert [row["file"] for row in rows] == ["0.png", "0-bad.png", "1.png", "1-bad.png"]
    assert [row["error"] or "" for row in rows] == ["", "cut off", "", "cut off"]
    for row in rows[::2]:
        assert [float(row[head]) for head in heads] == pytest.approx(list(sure.values()), abs=1e-6)


def test_answers_of_another_model_are_not_gone_on_with(station: Workspace, tmp_path: Path) -> None:
    for kind, text in ((".csv", "file,said,probability,unlike,error,leaf\n"), (".jsonl", '{"file": "a"}\n')):
        file = tmp_path / f"other{kind}"
        file.write_text(text, "utf-8")
        words = ("predict", station.run(1).model, station.folder / "images", "--out", file, "--resume", "--json")
        assert "it has other classes" in last_object(command(*words, code=1))["error"]["why"]
        assert file.read_text("utf-8") == text


@pytest.mark.parametrize(
    ("words", "code", "part"),
    [
        (["--out", "answers.txt"], 2, "ending"),
        (["--resume"], 2, "--resume"),
        (["--out", "/dev/null/x.csv"], 1, "there is no folder"),
        (["--out", "/dev/full/x.csv"], 1, "there is no folder"),
    ],
)
def test_what_cannot_be_written_is_a_sentence(
    station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, words: list[str], code: int, part: str
) -> None:
    monkeypatch.chdir(tmp_path)
    result = last_object(command("predict", station.run(1).model, station.folder, *words, "--json", code=code))
    assert part in " ".join(result["error"].values())


def test_without_the_library_parquet_is_a_sentence(
    station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(answer_files, "find_spec", lambda _: None)
    words = ("predict", station.run(1).model, station.folder, "--out", tmp_path / "a.parquet", "--json")
    assert "attentive-lens[parquet]" in last_object(command(*words, code=1))["error"]["remedy"]


def test_a_folder_without_images_leaves_no_file(station: Workspace, tmp_path: Path) -> None:
    (tmp_path / "empty").mkdir()
    for kind in (".csv", ".jsonl", ".parquet"):
        out = tmp_path / f"answers{kind}"
        result = last_object(
            command("predict", station.run(1).model, tmp_path / "empty", "--out", out, "--json", code=1)
        )
        assert "holds no images" in result["error"]["what"]
    assert [file.name for file in tmp_path.iterdir() if file.is_file()] == []


def test_files_are_read_no_further_ahead_than_is_needed(station: Workspace) -> None:
    taken = 0

    def files() -> Iterator[str]:
        nonlocal taken
        for name in list(image_files([station.folder / "images"])) * 40:
            taken += 1
            yield name

    model = model_of(station.run(1).model)
    for number, batch in enumerate(answers_to(model, files()), 1):
        assert len(batch) == BATCH
        assert taken <= (number + MOST_HELPERS + SPARE + 1) * BATCH
        if number == 6:
            break


def test_batches_of_any_cut_give_the_same_bits(station: Workspace) -> None:
    model, names = model_of(station.run(1).model), list(image_files([station.folder / "images"]))
    whole = {each.file: each for batch in answers_to(model, names) for each in batch}
    for name in names[::9]:
        ((alone,),) = answers_to(model, [name])
        if isinstance(alone, Unreadable):
            assert alone == whole[name]
        else:
            assert alone.probabilities == whole[name].probabilities  # type: ignore[union-attr]


def test_a_folder_is_walked_in_order_and_what_is_missing_is_said_at_once(tmp_path: Path) -> None:
    for name in ("b/2.png", "a/3.png", "1.png", "b/notes.txt", "a/0.JPG"):
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_bytes(b"")
    names = [str(Path(name).relative_to(tmp_path)) for name in image_files([tmp_path])]
    assert names == ["1.png", "a/0.JPG", "a/3.png", "b/2.png"]
    with pytest.raises(BadFile, match="no such file"):
        image_files([tmp_path, tmp_path / "none"])
    (tmp_path / "empty").mkdir()
    with pytest.raises(BadFile, match="holds no images"):
        list(image_files([tmp_path / "empty"]))


def test_images_unlike_all_training_images_are_told(station: Workspace, tmp_path: Path) -> None:
    random = np.random.default_rng(0)
    strange = tmp_path / "strange"
    strange.mkdir()
    for k in range(4):
        noise = random.integers(0, 256, (32, 32, 3)).astype(np.uint8)
        Image.fromarray(noise).save(strange / f"{k}.png")
    model = station.run(1).model
    usual = [
        json.loads(x)
        for x in command("predict", model, station.folder / "images/test", "--unlike", "--json").splitlines()
    ]
    odd = [json.loads(x) for x in command("predict", model, strange, "--unlike", "--json").splitlines()]
    assert all(entry["unlike"] > 1 for entry in odd)
    assert np.mean([entry["unlike"] > 1 for entry in usual if "error" not in entry]) < 0.5
    assert "unlike all training images" in command("predict", model, strange, "--unlike")
    result = last_object(command("predict", model, strange, "--unlike", "--out", tmp_path / "a.csv", "--json"))
    assert result["unlike"] == 4
    known = finish(familiar(station, station.run(1)))
    assert known.known.rows.shape[0] == len(known.numbers) <= MOST
    rows = {row.number: row for row in station.catalogue.images()}
    own = station.path_of(rows[int(known.numbers[0])])
    ((same,),) = answers_to(model_of(model), [str(own)], known)
    assert isinstance(same, Prediction)
    assert same.nearest == known.numbers[0], "a training image is nearest to itself"
    alone = tmp_path / "alone.alens"
    shutil.copy(model, alone)
    refused = last_object(command("predict", alone, strange, "--unlike", "--json", code=1))
    assert "workspace" in refused["error"]["why"]


def test_worse_pictures_are_told_grade_by_grade(station: Workspace) -> None:
    result = last_object(command("robustness", station.folder, 1, "--way", "darker", "--way", "JPEG", "--json"))
    assert [way["name"] for way in result["ways"]] == ["darker", "JPEG"]
    assert all(len(way["grades"]) == 5 for way in result["ways"])
    words = command("robustness", station.folder, 1, "--way", "darker")
    assert "as they are" in words
    assert "0.25" in words
    refused = last_object(command("robustness", station.folder, 1, "--way", "fog", "--json", code=2))
    assert "darker" in refused["error"]["remedy"] + refused["error"]["why"]
