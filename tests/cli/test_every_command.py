"""Laws of every command, in a loop over the program's own list: help, wrong options, wrong places, read-only places."""

from __future__ import annotations

import errno
import functools
import io
import os
import shutil
import stat
import unittest.mock
from collections.abc import Iterator
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

import pytest
import typer
from tests.cli.running import SCHEMA, command, last_object, run_words

from attentive_lens.cli.entry import COMMANDS, with_commands
from attentive_lens.cli.schemas import results_by_command
from attentive_lens.core.records import schema
from attentive_lens.workspace import Workspace

"""Loaded for their commands."""
NAMES = sorted(name for name in SCHEMA["$defs"] if name != "error")
NEEDED = {
    "WORKSPACE": "nowhere at all",
    "RUN": "1",
    "IMAGE": "1",
    "FILE": "none.file",
    "MODEL": "none.alens",
    "SOURCE": "none",
    "TABLE": "none.csv",
    "LAYER": "relu 1",
    "CHANNEL": "0",
    "PLACE": "none",
}
"""What stands in the place of an argument."""
WITHOUT_PLACES = {"about", "demo", "desktop", "extensions", "measure", "plan keys", "plan new", "plan show"}


@functools.cache
def parameters() -> dict[str, list[typer.core.TyperArgument]]:
    """The arguments of every command, by its name."""
    group = typer.main.get_command(with_commands())
    known = dict(group.commands)  # type: ignore[attr-defined]
    known |= {f"plan {name}": own for name, own in known.pop("plan").commands.items()}
    return {
        name: [own for own in result.params if isinstance(own, typer.core.TyperArgument)]
        for name, result in known.items()
    }


def words_of(name: str) -> list[str]:
    """A command with something in the place of every argument that must be there."""
    words = name.split(" ")
    for own in parameters()[name]:
        if own.required:
            shown = (own.metavar or "").strip("[].").split(" ")[0].rstrip(".")
            words.append(NEEDED.get(shown, "1"))
    return words


def run(*words: str) -> tuple[int, str, str]:
    out, err = io.StringIO(), io.StringIO()
    with redirect_stdout(out), redirect_stderr(err):
        code = run_words(*words)
    return code, out.getvalue(), err.getvalue()


def test_the_list_of_commands_is_whole() -> None:
    assert set(parameters()) == set(NAMES)
    assert set(results_by_command()) - {"error"} == set(NAMES)
    assert {name.split(" ")[0] for name in NAMES} == set(COMMANDS)


@pytest.mark.parametrize("name", NAMES)
def test_every_command_explains_itself(name: str) -> None:
    code, out, err = run(*name.split(" "), "--help")
    assert code == 0, err
    assert "Usage: attentive-lens" in out
    assert "--json" in out
    assert "Traceback" not in out + err


@pytest.mark.parametrize("name", NAMES)
def test_an_option_that_is_none_is_said_and_nothing_is_done(
    name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    summary = last_object(command(*words_of(name), "--no-such-option", "--json", code=2))
    assert "--no-such-option" in " ".join(summary["error"].values())
    code, out, err = run(*words_of(name), "--no-such-option")
    assert (code, out) == (2, "")
    assert err.count("\n") == 1, "one sentence"
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize("name", [own for own in NAMES if own not in WITHOUT_PLACES])
def test_a_place_that_is_not_there_is_said_in_one_sentence(
    name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    code, out, _ = run(*words_of(name), "--json")
    assert code in (1, 2), out
    summary = last_object(out)
    assert summary["error"].keys() == {"what", "why", "remedy"}
    assert all(summary["error"].values())
    assert "fault" not in summary["error"]["what"]
    assert list(tmp_path.iterdir()) == []


def test_a_set_that_is_none_is_refused_before_anything_is_opened() -> None:
    group = typer.main.get_command(with_commands())
    asked_of_sets = [
        name
        for name, own in group.commands.items()  # type: ignore[attr-defined]
        if any(each.metavar == "SET" for each in own.params)
    ]
    assert len(asked_of_sets) > 5
    for name in asked_of_sets:
        words = ["explain", "nowhere", "1", "--wrong", "2"] if name == "explain" else words_of(name)
        refused = last_object(command(*words, "--on", "tset", "--json", code=2))
        assert (refused["error"]["what"], "«test»" in refused["error"]["remedy"]) == ("set is not known", True), name


@pytest.mark.parametrize("name", NAMES)
def test_what_a_command_prints_is_described_by_its_classes(name: str) -> None:
    described = SCHEMA["$defs"][name]
    kinds = [schema(kind) for kind in results_by_command()[name]]
    assert described == (kinds[0] if len(kinds) == 1 else {"anyOf": kinds})
    for kind in results_by_command()[name]:
        assert kind.__doc__
        assert all(key == key.lower() for key in schema(kind)["properties"])


@pytest.mark.parametrize(
    "name", [own for own in NAMES if own not in WITHOUT_PLACES and own.split(" ")[0] not in ("plan", "predict")]
)
def test_a_file_is_no_workspace(name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    (tmp_path / "nowhere at all").write_text("a file")
    code, out, _ = run(*words_of(name), "--json")
    assert code in (1, 2), out
    assert "error" in last_object(out)
    assert (tmp_path / "nowhere at all").read_text() == "a file"


@pytest.fixture
def reading(station: Workspace) -> Iterator[Workspace]:
    """A workspace of which os.access says that nobody may write it, whoever runs the test."""
    folder, access = station.folder, os.access
    station.folder.chmod(stat.S_IRUSR | stat.S_IXUSR)

    def refused(place: str | os.PathLike[str], mode: int) -> bool:
        inside = Path(place).absolute() == folder.absolute()
        return not (inside and mode & os.W_OK) and access(place, mode)

    with unittest.mock.patch.object(os, "access", refused):
        yield station
    station.folder.chmod(stat.S_IRWXU)


def test_a_workspace_that_cannot_be_written_is_read_all_the_same(reading: Workspace, tmp_path: Path) -> None:
    folder = reading.folder
    scores = last_object(command("score", folder, 1, "--on", "test", "--json"))
    assert scores["images"] == 16
    assert last_object(command("watch", folder, 1, "--once", "--json"))["state"] == "done"
    command("neighbours", folder, 1, 2, "--json")
    command("try", folder, 1, 2, "--json")
    command("label", folder, "--out", tmp_path / "list.csv", "--json")
    assert (tmp_path / "list.csv").read_text("utf-8").startswith("image,file")
    (tmp_path / "flag.csv").write_text("image,flag\n1,look\n", "utf-8")
    for words in (["train", folder], ["label", folder, tmp_path / "flag.csv"]):
        summary = last_object(command(*words, "--json", code=1))
        assert "written" in " ".join(summary["error"].values())
    assert [run.number for run in reading.runs()] == [1]


def test_a_disk_that_cannot_be_written_is_told_in_the_words_of_what_was_asked(
    reading: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    shutil.rmtree(reading.cache)
    shutil.copy(reading.path_of(reading.catalogue.images()[0]), tmp_path / "a.png")
    unlink = Path.unlink

    def refused(self: Path, missing_ok: bool = False) -> None:
        if self.is_relative_to(reading.folder):
            raise OSError(errno.EROFS, os.strerror(errno.EROFS), str(self))
        unlink(self, missing_ok)

    monkeypatch.setattr(Path, "unlink", refused)
    folder = reading.folder
    command("faults", folder, "--json")
    command("report", folder, 1, "--out", tmp_path / "r.html", "--mistakes", 1, "--json")
    for words, what in (
        (["rescan", folder], "The source was not looked through again"),
        (["source", folder, folder / "images"], "The source was not changed"),
        (["restore", folder], "The catalogue was not restored"),
        (["cases", folder, "--open", 4, "--run", 1], "The case book was not changed"),
        (["add", folder, tmp_path / "a.png", "--as", "smooth"], "The images were not added"),
        (["calibrate", folder, 1], "The model was not changed"),
        (["bin", folder, "--put", 1], "Run 1 was not deleted"),
        (["bin", folder, "--empty"], "The bin was not emptied"),
        (["train", folder], "Nothing can be trained here"),
    ):
        error = last_object(command(*words, "--json", code=1))["error"]
        assert error["what"] == what
        assert "cannot be written" in error["why"]


def test_standard_output_holds_results_alone(station: Workspace) -> None:
    for words in (["score", station.folder, 1], ["causes", station.folder, 1], ["faults", station.folder]):
        out = command(*words)
        assert "scoring" not in out
        assert "\x1b" not in out, "no colours where nobody looks"
