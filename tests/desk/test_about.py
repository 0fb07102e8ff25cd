"""A report of a fault says what the installation is and where the fault was, and nothing of the user's."""

from __future__ import annotations

import sys
import traceback
from pathlib import Path

import numpy
import pytest
from tests.cli.running import command, last_object

from attentive_lens.core.version import VERSION
from attentive_lens.desk.about import about, clean_trace, without_home
from attentive_lens.desk.log import note_fault, open_log, see_faults, unseen_faults
from attentive_lens.desk.remembering import remember_theme, remembered_theme
from attentive_lens.images.decoding import decode

SECRET = "patient Miller/left eye.png"


@pytest.fixture(autouse=True)
def state(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    return tmp_path


def a_fault(place: str) -> Exception:
    try:
        try:
            decode(place)  # type: ignore[arg-type]
        except Exception as error:
            raise RuntimeError(f"{place} has\nTwo lines: {SECRET}") from error
    except RuntimeError as error:
        return error
    raise AssertionError


def test_a_trace_tells_where_and_of_what_kind_and_no_word_of_anybody(tmp_path: Path) -> None:
    fault = a_fault(str(tmp_path / SECRET))
    whole = "".join(traceback.format_exception(fault))
    assert "Miller" in whole
    clean = clean_trace(whole)
    assert "Miller" not in clean and str(tmp_path) not in clean and str(Path.home()) not in clean
    assert "  attentive_lens/images/decoding.py, line" in clean and "\nRuntimeError" in clean
    assert "test_about" not in clean and "  …, line" in clean, "of other people's files only that there is one"
    crash = f'Fatal Python error: Segmentation fault\n\nCurrent thread 0x1:\n  File "{__file__}", line 3 in f'
    assert "Segmentation fault" in clean_trace(crash) and "line 3 in f" in clean_trace(crash)
    assert clean_trace(f"{SECRET}\n    open({SECRET!r})\n") == ""


def test_faults_are_offered_until_they_are_seen_and_new_ones_again(tmp_path: Path) -> None:
    assert unseen_faults() == ""
    see_faults()
    note_fault(a_fault("one"))
    assert "one has" in unseen_faults()
    remember_theme("dark")
    see_faults()
    assert unseen_faults() == "" and remembered_theme() == "dark"
    note_fault(a_fault("two"))
    assert "two has" in unseen_faults() and "one has" not in unseen_faults()
    log = open_log()
    assert log is not None
    with log:
        log.truncate(0)
    note_fault(ValueError("three"))
    assert "three" in unseen_faults(), "the log was emptied meanwhile"


def test_the_installation_is_told_without_whose_it_is(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("HOME", str(tmp_path))
    monkeypatch.delenv("XDG_STATE_HOME")
    installation = about("xcb", ("libxcb-cursor.so.0",))
    assert installation.version == VERSION and installation.packages["numpy"] == numpy.__version__
    assert installation.python == ".".join(map(str, sys.version_info[:3]))
    assert installation.folders["state"] == "~/.local/state/attentive-lens"
    assert without_home(f"{tmp_path}x/y") == f"{tmp_path}x/y"
    result = last_object(command("about", "--json"))
    assert result["version"] == VERSION and result["cores"] >= 1
    assert result["display"] == "offscreen" and result["missing_libraries"] == []
    assert VERSION in command("about")
