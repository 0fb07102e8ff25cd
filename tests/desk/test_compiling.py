"""Loops are compiled once, beforehand, by one process at a time; what was changed since is compiled again."""

from __future__ import annotations

import fcntl
import subprocess
from pathlib import Path

import pytest

from attentive_lens.desk import compiling

ROOT = Path(compiling.__file__).parents[1]


@pytest.fixture
def sessions(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> list[Path]:
    """First sessions that were gone through, which compile nothing here."""
    places: list[Path] = []
    monkeypatch.setenv("NUMBA_CACHE_DIR", str(tmp_path / "kernels"))
    monkeypatch.setattr(compiling, "_first_session", places.append)
    return places


def test_it_is_done_once_until_something_is_another(sessions: list[Path], monkeypatch: pytest.MonkeyPatch) -> None:
    assert compiling.is_needed()
    assert compiling.compile_all()
    assert not compiling.is_needed()
    assert compiling.compile_all()
    assert len(sessions) == 1
    assert not sessions[0].exists(), "nothing of it stays"
    monkeypatch.setattr("importlib.metadata.version", lambda name: "99")
    assert compiling.is_needed(), "another compiler"
    monkeypatch.undo()


def test_changed_loops_are_compiled_again(
    sessions: list[Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    package = tmp_path / "attentive_lens"
    loops = package / "engine" / "kernels" / "loops.py"
    loops.parent.mkdir(parents=True)
    loops.write_text("x = 1\n")
    monkeypatch.setattr("attentive_lens.__file__", str(package / "__init__.py"))
    assert compiling.compile_all()
    assert not compiling.is_needed()
    loops.write_text("x = 12\n")
    assert compiling.is_needed()
    assert len(sessions) == 1


def test_one_process_is_at_it_at_a_time_and_one_that_fails_leaves_it_to_be_done(
    sessions: list[Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "kernels"
    folder.mkdir()
    with (folder / "compiling.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        assert not compiling.compile_all()
    assert sessions == []

    def fail(place: Path) -> None:
        raise OSError("no room")

    monkeypatch.setattr(compiling, "_first_session", fail)
    with pytest.raises(OSError, match="no room"):
        compiling.compile_all()
    assert compiling.is_needed()


def test_a_process_of_its_own_is_begun_only_where_it_is_needed(
    sessions: list[Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    begun: list[list[str]] = []
    monkeypatch.setattr(subprocess, "Popen", lambda words, **_: begun.append(words))
    compiling.begin()
    assert begun[0][1:] == ["-m", "attentive_lens.desk.compiling"]
    compiling.compile_all()
    assert compiling.begin() is None
    assert len(begun) == 1


def test_every_folder_of_compiled_loops_is_looked_at() -> None:
    folders = {
        str(file.parent.relative_to(ROOT)) for file in ROOT.rglob("*.py") if "import njit" in file.read_text("utf-8")
    }
    assert folders <= set(compiling.SOURCES)
    assert folders
