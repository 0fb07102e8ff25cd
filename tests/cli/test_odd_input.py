"""What is odd in a plan, a model, a note or a locale is taken, or refused in one sentence where it is."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import zipfile
from dataclasses import replace
from pathlib import Path

import pytest
from tests.cli.running import command, last_object
from tests.conftest import small_plan

from attentive_lens.core.files import steerless
from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.reporting import WriteReport
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.references import read_reference
from attentive_lens.desk.training.runs import check_resumable
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.layers import Output
from attentive_lens.plan.outline import commented
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Correction, Workspace
from attentive_lens.workspace.catalogue import Catalogue


@pytest.mark.parametrize(("classes", "words"), [([], "it has no classes"), (["smooth"], "it has 1 class,")])
def test_a_model_of_fewer_than_two_classes_is_refused(
    station: Workspace, tmp_path: Path, classes: list[str], words: str
) -> None:
    file = tmp_path / "few.alens"
    with zipfile.ZipFile(station.run(1).model) as old, zipfile.ZipFile(file, "w") as new:
        for name in old.namelist():
            new.writestr(name, json.dumps(classes) if name == "classes.json" else old.read(name))
    with pytest.raises(BadFile, match=words):
        read_model(file)
    error = last_object(command("predict", file, station.folder / "images", "--json", code=1))["error"]
    assert words in error["why"]


def test_images_of_one_class_are_nothing_to_learn_from(station: Workspace) -> None:
    rows = station.catalogue.images()
    station.catalogue.correct({row.number: Correction(label=0) for row in rows if row.label})
    with pytest.raises(BadValue, match=r"nothing to tell apart: all \d+ training images are of «furrowed»"):
        finish(execute(station, station.claim_run(small_plan()), lambda: False))


def test_an_output_of_another_number_of_units_is_refused_and_not_replaced(station: Workspace) -> None:
    plan = small_plan()
    *nodes, last = plan.network.nodes
    named = plan.with_network(replace(plan.network, nodes=(*nodes, replace(last, layer=Output(units=9)))))
    with pytest.raises(BadValue, match="9 scores, and 6 are needed"):
        finish(execute(station, station.claim_run(named), lambda: False))


def test_a_run_that_trained_all_its_epochs_is_not_resumed(station: Workspace) -> None:
    (station.run(1).checkpoints / "last.alens").unlink(missing_ok=True)
    with pytest.raises(BadValue, match="it trained all its epochs"):
        check_resumable(station.run(1))
    assert last_object(command("train", station.folder, "--resume", 1, "--json", code=1))["error"]


def test_a_plan_s_fault_ends_alike_from_a_file_and_from_words_and_a_mark_of_byte_order_is_no_fault(
    station: Workspace, tmp_path: Path
) -> None:
    wrong, marked = tmp_path / "wrong.toml", tmp_path / "marked.toml"
    wrong.write_text("format = 1\n[training]\nepochs = -3\n", "utf-8")
    result = [
        last_object(command("train", station.folder, *words, "--json", code=2))["error"]
        for words in (("--plan", wrong), ("--set", "training.epochs=-3"))
    ]
    assert result[0] == result[1]
    marked.write_text(commented(Plan()), "utf-8-sig")
    assert last_object(command("plan", "check", marked, "--json"))["weights"]


def test_a_base_that_is_not_there_is_told_before_a_layer_that_it_has_not(station: Workspace) -> None:
    words = ("--set", "base.run=9", "--set", "base.until=nothing", "--set", "network=two blocks")
    error = last_object(command("train", station.folder, *words, "--json", code=1))["error"]
    assert error["what"] == "There is no run 9"


def test_a_curve_with_decimal_commas_is_read(tmp_path: Path) -> None:
    for name, text in (
        ("comma", "epoch;accuracy;loss\n1;0,5;1,25\n2;0,75;0,5\n"),
        ("point", "epoch,accuracy,loss\n1,0.5,1.25\n2,0.75,0.5\n"),
        ("tab", "epoch\taccuracy\tloss\n1\t0,5\t1,25\n2\t0,75\t0,5\n"),
    ):
        file = tmp_path / f"{name}.csv"
        file.write_text(text, "utf-8")
        assert read_reference(file).curves == {
            "accuracy": ((1.0, 0.5), (2.0, 0.75)),
            "loss": ((1.0, 1.25), (2.0, 0.5)),
        }


def test_a_note_steers_neither_a_terminal_nor_a_page(station: Workspace, tmp_path: Path) -> None:
    note = "first\x1b[31m\u202egnp.exe\nsecond\u202fline"
    command("cases", station.folder, "--open", 4, "--run", 1, "--note", note)
    printed = command("cases", station.folder)
    finish(carry_out(WriteReport(str(station.folder), 1, str(tmp_path / "r.html"), "validation", 2)))
    for text in (printed, (tmp_path / "r.html").read_text("utf-8")):
        assert "\x1b" not in text and "\u202e" not in text
        assert "\\x1b[31m" in text
        assert "second\u202fline" in text
    assert steerless("plain") == "plain"


def test_a_full_disk_is_called_one(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file = tmp_path / "catalogue.sqlite"
    Catalogue.create(file, ["a", "b"], [], [], station_origin())
    catalogue = Catalogue(file)
    with pytest.raises(BadFile) as raised, catalogue._open() as base:
        base.execute("PRAGMA max_page_count = 1")
        for k in range(10_000):
            base.execute("INSERT INTO skipped VALUES (?, ?)", (str(k), "x" * 1000))
    assert raised.value.why == "the disk is full"
    assert "restore" not in raised.value.remedy


def station_origin() -> object:
    from attentive_lens.workspace.rows import Origin

    return Origin("folders", "", {})


def test_odd_names_are_carried_through_in_a_locale_without_them(station: Workspace, tmp_path: Path) -> None:
    source = tmp_path / os.fsdecode(b"k\xc3\xb6rner")
    for k, name in enumerate((b"gl\xc3\xa4tt\xff", b"spiny")):
        folder = source / os.fsdecode(name)
        folder.mkdir(parents=True)
        for place, row in enumerate([r for r in station.catalogue.images() if r.label == k][:12]):
            (folder / f"{place}.png").write_bytes(station.path_of(row).read_bytes())
    work = tmp_path / os.fsdecode(b"w\xff")
    plain = {**os.environ, "LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0"}
    quick = ("training.epochs=1", "preprocessing.input_size=16", "network=two blocks")
    settings = [word for each in quick for word in ("--set", each)]
    for words in (["new", work, source], ["train", work, *settings], ["score", work, "1"], ["runs", work]):
        program = [sys.executable, "-m", "attentive_lens", *map(str, words)]
        ended = subprocess.run(program, env=plain, capture_output=True, timeout=120, check=False)
        assert ended.returncode == 0, ended.stderr
    other = [sys.executable, "-m", "attentive_lens", "runs", str(work), "--json"]
    table = json.loads(subprocess.run(other, capture_output=True, timeout=60, check=True).stdout.splitlines()[-1])
    assert table["rows"][0]["state"] == "done"
